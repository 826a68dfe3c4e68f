//! Background work as its owner sees it.

use std::time::Duration;

use actix_web::web::{self, Bytes};
use actix_web::{HttpRequest, HttpResponse};
use askama::Template;
use pronoia_service::ServiceError;
use pronoia_store::job;
use pronoia_store::jobs::Work;
use serde::{Deserialize, Serialize};

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, see_other};
use crate::session::Visitor;

/// How often a page hears of progress.
const TICK: Duration = Duration::from_millis(300);

#[derive(Template)]
#[template(path = "workspace/job.html")]
struct JobPage {
    frame: Frame,
    job: job::Model,
}

/// The page of a job; once it is done, the page of its result.
pub async fn page(app: web::Data<App>, visitor: Visitor, path: web::Path<i64>) -> PageResult {
    let job = app.store.job(visitor.workspace_id(), *path).await?;
    match (&job.outcome, job.state.as_str()) {
        (Some(address), "done") => see_other(address),
        _ => html(&JobPage { frame: Frame::plain(&app, &visitor).await?, job }),
    }
}

#[derive(Template)]
#[template(path = "workspace/job_log.html")]
struct LogPage {
    frame: Frame,
    job: job::Model,
    /// Seconds after it was begun, and the stage.
    stages: Vec<(String, String)>,
    ended: &'static str,
}

/// The stages that a job went through.
pub async fn log(app: web::Data<App>, visitor: Visitor, path: web::Path<i64>) -> PageResult {
    let job = app.store.job(visitor.workspace_id(), *path).await?;
    let stages = job.stages()?.into_iter().map(|s| (pronoia_service::text::fixed(s.at, 1), s.stage)).collect();
    let ended = match job.state.as_str() {
        "queued" => "It waits for its turn.",
        "running" => "It is running.",
        "done" => "Done.",
        "failed" => "It failed.",
        _ => "It was stopped on request.",
    };
    html(&LogPage { frame: Frame::plain(&app, &visitor).await?, job, stages, ended })
}

#[derive(Serialize)]
struct JobEvent {
    state: String,
    stage: String,
    share: f64,
    /// Seconds left; none while too little is done to tell.
    left: Option<f64>,
    /// The learning curve of what is being fitted, as far as it has grown.
    curve: serde_json::Value,
}

fn event_of(job: &job::Model) -> JobEvent {
    let left = job.started_at.filter(|_| job.share > 0.03 && job.share < 1.0).map(|started| {
        let spent = (chrono::Utc::now() - started).as_seconds_f64().max(0.0);
        spent / job.share * (1.0 - job.share)
    });
    JobEvent { state: job.state.clone(), stage: job.stage.clone(), share: job.share, left, curve: job.curve.clone() }
}

/// Progress as server-sent events, until the job has ended.
pub async fn events(app: web::Data<App>, visitor: Visitor, path: web::Path<i64>) -> PageResult {
    let (workspace, id) = (visitor.workspace_id(), *path);
    app.store.job(workspace, id).await?;
    let stream = futures_util::stream::unfold((app, false), move |(app, ended)| async move {
        if ended {
            return None;
        }
        let (line, ended) = match app.store.job(workspace, id).await {
            Ok(job) => {
                let ended = !matches!(job.state.as_str(), "queued" | "running");
                (serde_json::to_string(&event_of(&job)).unwrap_or_default(), ended)
            }
            // The browser asks again by itself.
            Err(_) => return None,
        };
        if !ended {
            tokio::time::sleep(TICK).await;
        }
        Some((Ok::<_, actix_web::Error>(Bytes::from(format!("data: {line}\n\n"))), (app, ended)))
    });
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("Cache-Control", "no-store"))
        .streaming(stream))
}

/// Where to go on after asking a job to stop.
#[derive(Deserialize)]
pub struct Cancel {
    csrf: String,
}

/// Asks a job to stop.
pub async fn cancel(
    app: web::Data<App>,
    request: HttpRequest,
    visitor: Visitor,
    path: web::Path<i64>,
    form: web::Form<Cancel>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let job = app.store.job(visitor.workspace_id(), *path).await?;
    let is_erasure = matches!(serde_json::from_value(job.work), Ok(Work::Erased { .. }));
    if is_erasure && !visitor.is_owner() {
        return Err(ServiceError::NotAllowed("Somebody is being erased; only owners stop that.").into());
    }
    if let Some(work) = app.store.cancel_job(visitor.workspace_id(), *path).await? {
        pronoia_service::jobs::put_aside(&app, &work, "stopped").await;
    }
    let by_script = request.headers().contains_key("x-requested-by-script");
    if by_script { Ok(HttpResponse::NoContent().finish()) } else { see_other(&format!("/jobs/{path}")) }
}
