//! Live: the policy released for other programs to call, its versions, keys, and how often it is called.

pub(crate) mod exports;
pub(super) mod monitoring;
mod snippets;
pub(crate) mod statement;
mod view;

use actix_web::{HttpRequest, web};
use askama::Template;
use pronoia_store::jobs::Work;
use pronoia_store::{StoreError, release};
use serde::Deserialize;

use super::{PageResult, Signed, StudyPath, see_other};
use crate::App;
use crate::api::{Request, scored_by};
use crate::error::html;
use crate::frame::Frame;
use crate::session::Visitor;
use pronoia_service::ServiceError;
use pronoia_service::live::{LONGEST_NAME, ReleasePolicy};
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use view::ReleaseView;

/// Calls a minute that a key may be good for.
const MOST_CALLS: i32 = 100_000;

#[derive(Template)]
#[template(path = "live/live.html")]
struct LivePage {
    frame: Frame,
    base: String,
    decide: String,
    heading: String,
    /// What is proposed as a name.
    name: String,
    has_policy: bool,
    /// Whether a model can be carried elsewhere, and where that is done.
    has_model: bool,
    forms: String,
    statement: String,
    /// What a new version would decide by.
    rule: String,
    /// The records of the study.
    records: i64,
    /// Tables that may say what happened.
    tables: Vec<(i64, String)>,
    releases: Vec<ReleaseView>,
}

/// What was just done to a release, and can be seen only now.
#[derive(Default)]
pub struct Just {
    release: i64,
    /// A key in the clear.
    key: Option<String>,
    /// What was tried, and what came of it.
    tried: Option<(String, Result<String, String>)>,
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    request: HttpRequest,
) -> PageResult {
    shown(&app, &visitor, path.id, &request, Just::default()).await
}

async fn shown(app: &App, visitor: &Visitor, study: i64, request: &HttpRequest, just: Just) -> PageResult {
    // What it tells in the ledger is to be seen at once.
    app.release_calls.write_down(app).await;
    let view = StudyView::load(app, visitor.workspace_id(), study).await?;
    let server = super::reached_at(request);
    let tables = app.store.tables(visitor.workspace_id()).await?;
    let tables: Vec<(i64, String)> = tables.into_iter().map(|table| (table.id, table.name)).collect();
    let mut releases = Vec::new();
    for release in app.store.releases(study).await? {
        releases.push(ReleaseView::of(app, &release, &server, &just).await?);
    }
    let heading = match releases.as_slice() {
        [] if view.state.policy.is_none() => "Nothing can be released yet.".into(),
        [] => "Nothing is released yet.".into(),
        [one] => format!("Active version of “{}”: {}.", one.name, one.number),
        several => format!("{} active releases.", several.len()),
    };
    html(&LivePage {
        base: view.href("live"),
        decide: view.href("decide"),
        name: releases.first().map_or_else(|| name_of(&view.study.title), |release| release.name.clone()),
        has_policy: view.state.policy.is_some(),
        has_model: view.policy_model().is_some() || view.fitted().next().is_some(),
        forms: view.href("forms"),
        statement: view.href("statement"),
        rule: view.state.policy.as_ref().map_or(String::new(), |chosen| chosen.policy.rule.in_words()),
        frame: Frame::of_study(app, visitor, &view, 8).await?,
        heading,
        records: view.table.id,
        tables,
        releases,
    })
}

/// A name for an address, from a title.
fn name_of(title: &str) -> String {
    let words = title.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
    let name = words.take(4).map(str::to_ascii_lowercase).collect::<Vec<_>>().join("-");
    if name.is_empty() { "release".into() } else { name }
}

/// Under which name.
#[derive(Deserialize)]
pub struct ReleaseForm {
    csrf: String,
    name: String,
}

/// Releases the policy that is kept.
pub async fn release(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<ReleaseForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.perform(visitor.actor(), ReleasePolicy { study: path.id, name: form.into_inner().name }).await?;
    see_other(&format!("/studies/{}/live", path.id))
}

/// The keys in the address of a release.
#[derive(Deserialize)]
pub struct ReleasePath {
    id: i64,
    release: i64,
}

async fn find(app: &App, visitor: &Visitor, path: (i64, i64)) -> Result<release::Model, ServiceError> {
    // The study is looked up in the visitor's workspace.
    let study = app.store.study(visitor.workspace_id(), path.0).await?;
    let releases = app.store.releases(study.id).await?;
    releases.into_iter().find(|release| release.id == path.1).ok_or(ServiceError::NotFound)
}

/// Which version.
#[derive(Deserialize)]
pub struct VersionForm {
    csrf: String,
    version: i64,
}

/// Has another version answer.
pub async fn set_live(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ReleasePath>,
    form: web::Form<VersionForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let release = find(&app, &visitor, (path.id, path.release)).await?;
    app.store.set_live(release.id, form.version).await?;
    app.release_calls.forget();
    let number = app.store.release_version(form.version).await?.number;
    app.store.note(path.id, None, &format!("Active version of “{}”: {number}", release.name), "chosen at Live").await?;
    see_other(&format!("/studies/{}/live", path.id))
}

/// Which version is tried on how many of a hundred calls.
#[derive(Deserialize)]
pub struct Challenger {
    csrf: String,
    version: i64,
    percent: String,
}

/// Has a version answer some of the calls.
pub async fn challenge(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ReleasePath>,
    form: web::Form<Challenger>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let release = find(&app, &visitor, (path.id, path.release)).await?;
    let percent = text::typed_number(&form.percent).ok().filter(|p| (0.0..=50.0).contains(p)).ok_or_else(|| {
        ServiceError::Refused(format!("A version is tried on 0 to 50 of 100 calls; this is “{}”.", form.percent))
    })?;
    app.store.set_challenger(release.id, form.version, percent / 100.0).await?;
    app.release_calls.forget();
    let number = app.store.release_version(form.version).await?.number;
    let chosen = match percent {
        p if p > 0.0 => format!("“{}”: version {number} is on trial for {p} of 100 calls", release.name),
        _ => format!("“{}”: version {number} is not on trial any more", release.name),
    };
    app.store.note(path.id, Some(visitor.account_id()), &chosen, "chosen at Live").await?;
    see_other(&format!("/studies/{}/live", path.id))
}

/// Whose key, and for how many calls.
#[derive(Deserialize)]
pub struct ReleaseKeyForm {
    csrf: String,
    name: String,
    per_minute: String,
}

/// Makes a key, and shows it this once.
pub async fn add_key(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ReleasePath>,
    form: web::Form<ReleaseKeyForm>,
    request: HttpRequest,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let release = find(&app, &visitor, (path.id, path.release)).await?;
    let name = form.name.trim();
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        return Err(ServiceError::Refused(format!("Say whose key it is, in up to {LONGEST_NAME} letters.")).into());
    }
    let figures: String = form.per_minute.chars().filter(|c| !c.is_whitespace()).collect();
    let per_minute = figures.parse::<i32>().ok().filter(|n| (1..=MOST_CALLS).contains(n)).ok_or_else(|| {
        ServiceError::Refused(format!(
            "A key is good for 1 to {MOST_CALLS} calls a minute; it is “{}”.",
            form.per_minute
        ))
    })?;
    let key = app.store.add_release_key((release.id, visitor.account_id()), name, per_minute).await?;
    app.store
        .note(
            path.id,
            Some(visitor.account_id()),
            &format!("Key to “{}” made for {name}", release.name),
            &form.per_minute,
        )
        .await?;
    shown(&app, &visitor, path.id, &request, Just { release: release.id, key: Some(key), tried: None }).await
}

/// The keys in the address of a key.
#[derive(Deserialize)]
pub struct KeyPath {
    id: i64,
    release: i64,
    key: i64,
}

/// Makes a key open nothing any more.
pub async fn revoke_key(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<KeyPath>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let release = find(&app, &visitor, (path.id, path.release)).await?;
    app.store.revoke_release_key(release.id, path.key).await?;
    app.release_calls.forget();
    app.store.note(path.id, Some(visitor.account_id()), &format!("Key to “{}” revoked", release.name), "").await?;
    see_other(&format!("/studies/{}/live", path.id))
}

/// A table that says what happened.
#[derive(Deserialize)]
pub struct WhatHappened {
    csrf: String,
    table: i64,
}

/// Has what the version that answers says compared with what happened.
pub async fn judge(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ReleasePath>,
    form: web::Form<WhatHappened>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let release = find(&app, &visitor, (path.id, path.release)).await?;
    let version = release.version_id.ok_or(ServiceError::NotFound)?;
    // The table is looked up in the visitor's workspace.
    let table = app.store.table(visitor.workspace_id(), form.table).await?;
    let work = Work::Promise { version, table: table.id };
    let title = "Comparing predictions with observed outcomes";
    let job = app.store.enqueue_once(visitor.workspace_id(), Some(path.id), title, &work).await?;
    see_other(&format!("/jobs/{job}"))
}

/// A body to be tried.
#[derive(Deserialize)]
pub struct TryForm {
    csrf: String,
    body: String,
}

/// Scores what was typed, as a call would be.
pub async fn try_out(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ReleasePath>,
    form: web::Form<TryForm>,
    request: HttpRequest,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let release = find(&app, &visitor, (path.id, path.release)).await?;
    let version = release.version_id.ok_or(StoreError::NotFound("A version"))?;
    let ready = app.release_calls.ready(&app, (release.workspace_id, version)).await?;
    let answered = serde_json::from_str::<Request>(&form.body)
        .map_err(|e| format!("This is not {{\"customers\": [{{…}}, …]}}: {e}."))
        .and_then(|request| {
            scored_by(&ready, &request).map(|answered| crate::api::written(&release.name, &ready, &answered.scored))
        });
    let just = Just { release: release.id, key: None, tried: Some((form.body.clone(), answered)) };
    shown(&app, &visitor, path.id, &request, just).await
}
