//! A file arrives, is previewed and accepted.

use std::fmt::Display;
use std::path::{Path, PathBuf};

use actix_multipart::{Field, Multipart};
use actix_web::web;
use askama::Template;
use futures_util::{Stream, TryStreamExt};
use pronoia_core::Kind;
use pronoia_core::intake::{Format, Scan};
use pronoia_core::value::{DateOrder, ValueFormat};
use pronoia_store::jobs::{StateChange, Work};
use pronoia_store::uploads::Arrived;
use pronoia_store::{StoreError, upload};
use serde::Deserialize;
use tokio::io::AsyncWriteExt;

use crate::App;
use crate::error::{PageError, html};
use crate::frame::Frame;
use crate::pages::{PageResult, csv_file, see_other};
use crate::session::Visitor;
use pronoia_service::ServiceError;
use pronoia_service::text;

/// A file as it arrives.
type Pieces<'a, E> = dyn Stream<Item = Result<web::Bytes, E>> + Unpin + 'a;

/// The most bytes of a text field beside the file.
const MOST_TEXT: usize = 1_000;

/// The most files that are taken at once.
const MOST_FILES: usize = 20;

/// Receives files. The fields `csrf` and, for a list, `study` come before them.
pub async fn receive(app: web::Data<App>, visitor: Visitor, mut parts: Multipart) -> PageResult {
    let broken = |e: actix_multipart::MultipartError| {
        ServiceError::Refused(format!("The file did not arrive whole ({e}). Nothing was kept; send it again."))
    };
    let (mut checked, mut study, mut jobs) = (false, None, Vec::new());
    while let Some(mut part) = parts.try_next().await.map_err(broken)? {
        match part.name().unwrap_or_default() {
            "csrf" => {
                visitor.check(&text_of(&mut part).await?)?;
                checked = true;
            }
            "study" => {
                let id: i64 = text_of(&mut part).await?.parse().map_err(|_| ServiceError::NotFound)?;
                study = Some(app.store.study(visitor.workspace_id(), id).await?.id);
            }
            "file" => {
                if !checked {
                    return Err(PageError::Forged);
                }
                if jobs.len() == MOST_FILES {
                    return Err(ServiceError::Refused(format!(
                        "At most {MOST_FILES} files are taken at once. The first {MOST_FILES} are being read; send the others after them."
                    )).into());
                }
                jobs.push(keep(&app, &visitor, study, part).await?);
            }
            _ => {}
        }
    }
    match jobs.as_slice() {
        [] => Err(ServiceError::Refused("No file was chosen. Choose one and send it again.".into()).into()),
        [job] => see_other(&format!("/jobs/{job}")),
        _ => see_other("/"),
    }
}

/// The text of a short field.
pub async fn text_of(part: &mut Field) -> Result<String, ServiceError> {
    let refused = || ServiceError::Refused("The form could not be read; nothing was kept.".into());
    let bytes = part.bytes(MOST_TEXT).await.map_err(|_| refused())?.map_err(|_| refused())?;
    String::from_utf8(bytes.to_vec()).map_err(|_| refused())
}

/// Streams the file to disk, within the limit, and puts it in the queue.
async fn keep(app: &App, visitor: &Visitor, study: Option<i64>, mut part: Field) -> Result<i64, ServiceError> {
    let name = name_of(part.content_disposition().and_then(|d| d.get_filename()).unwrap_or(""));
    if name.is_empty() {
        return Err(ServiceError::Refused("No file was chosen. Choose one and send it again.".into()));
    }
    let (path, size) = stored(app, &mut part).await?;
    let arrived = Arrived { file_name: &name, origin: None, path: &path, size };
    Ok(take_in(app, visitor.workspace_id(), study, &arrived).await?.job)
}

/// What a file is called, without where it lay; empty if it has no name.
pub fn name_of(given: &str) -> String {
    given.rsplit(['/', '\\']).next().unwrap_or("").chars().filter(|c| !c.is_control()).take(120).collect()
}

/// A file that was put in the queue.
pub struct QueuedFile {
    pub upload: i64,
    pub job: i64,
}

/// Puts a file that lies whole in the uploads folder into the queue, to be
/// read; where that is refused, nothing of it is left.
pub async fn take_in(
    app: &App,
    workspace: i64,
    study: Option<i64>,
    arrived: &Arrived<'_>,
) -> Result<QueuedFile, StoreError> {
    match app.store.take_in(workspace, study, arrived).await {
        Ok((upload, job)) => Ok(QueuedFile { upload, job }),
        Err(e) => {
            if let Err(e) = tokio::fs::remove_file(arrived.path).await {
                tracing::warn!("a file that was refused could not be removed: {e}");
            }
            Err(e)
        }
    }
}

/// Streams what arrives to a file in the uploads folder, within the limit: where it lies, and its
/// bytes. Nothing is left of one that breaks off.
pub async fn stored<E: Display>(app: &App, pieces: &mut Pieces<'_, E>) -> Result<(PathBuf, u64), ServiceError> {
    let path = app.place().await?;
    match write(app, &path, pieces).await {
        Ok(size) => Ok((path, size)),
        Err(e) => {
            let _ = tokio::fs::remove_file(&path).await;
            Err(e)
        }
    }
}

async fn write<E: Display>(app: &App, path: &Path, pieces: &mut Pieces<'_, E>) -> Result<u64, ServiceError> {
    let mut file = tokio::fs::File::create(path).await?;
    let mut size = 0u64;
    let broken = |e: &dyn Display| {
        ServiceError::Refused(format!("The file did not arrive whole ({e}). Nothing was kept; send it again."))
    };
    let patience = app.files.patience;
    let next = async |pieces: &mut Pieces<'_, E>| match tokio::time::timeout(patience, pieces.try_next()).await {
        Ok(piece) => piece.map_err(|e| broken(&e)),
        Err(_) => Err(broken(&format!("nothing came for {} seconds", patience.as_secs()))),
    };
    while let Some(piece) = next(pieces).await? {
        size += piece.len() as u64;
        if size > app.files.most_upload {
            return Err(ServiceError::TooLarge(format!(
                "The file is larger than the {} that are allowed. Nothing was kept. Drop columns or rows that you do not need, or ask the administrator of this server to raise the limit.",
                text::bytes(app.files.most_upload)
            )));
        }
        file.write_all(&piece).await?;
    }
    file.flush().await?;
    Ok(size)
}

#[derive(Template)]
#[template(path = "records/upload.html")]
struct UploadPage {
    frame: Frame,
    upload: upload::Model,
    scan: Option<Scan>,
    kinds: [Kind; 7],
    /// The sheet that was read and all that can be, if it is a workbook.
    sheets: Option<(String, Vec<String>)>,
    /// The first values of each column, as written.
    samples: Vec<String>,
}

/// What was found in the file.
pub async fn page(app: web::Data<App>, visitor: Visitor, path: web::Path<i64>) -> PageResult {
    let upload = app.store.upload(visitor.workspace_id(), *path).await?;
    if let Some(table) = upload.table_id {
        return see_other(&format!("/tables/{table}"));
    }
    let scan = upload.scanned()?;
    let samples = scan.as_ref().map_or(Vec::new(), |scan| {
        let first =
            |column: usize| -> Vec<&str> { scan.first_rows.iter().take(4).map(|row| row[column].as_str()).collect() };
        (0..scan.plan.columns.len()).map(|column| first(column).join(" · ")).collect()
    });
    let sheets = scan.as_ref().and_then(|scan| match &scan.plan.format {
        Format::Workbook { sheet, sheets, .. } if sheets.len() > 1 => Some((sheet.clone(), sheets.clone())),
        _ => None,
    });
    html(&UploadPage { frame: Frame::plain(&app, &visitor).await?, scan, upload, kinds: Kind::ALL, sheets, samples })
}

/// Another sheet of the workbook.
#[derive(Deserialize)]
pub struct OtherSheet {
    csrf: String,
    sheet: String,
}

/// Reads another sheet of the workbook instead.
pub async fn read_sheet(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<i64>,
    form: web::Form<OtherSheet>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let upload = app.store.upload(visitor.workspace_id(), *path).await?;
    let title = format!("Reading {} of {}", form.sheet, upload.file_name);
    let work = Work::Scan { upload: upload.id, sheet: Some(form.sheet.clone()) };
    let change = StateChange::UploadRead { upload: upload.id };
    let job = app.store.change_and_enqueue((visitor.workspace_id(), None), (&title, &work), change).await?;
    see_other(&format!("/jobs/{job}"))
}

/// Kinds and orders of dates as the analyst wants them, by position of the column.
#[derive(Deserialize)]
pub struct Accept {
    csrf: String,
    #[serde(flatten)]
    answers: std::collections::BTreeMap<String, String>,
}

/// Accepts the file as it was understood, with changes.
pub async fn accept(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<i64>,
    form: web::Form<Accept>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let upload = app.store.upload(visitor.workspace_id(), *path).await?;
    let mut scan = ready(&upload)?;
    for i in 0..scan.plan.columns.len() {
        if let Some(word) = form.answers.get(&format!("order_{i}")) {
            let order = DateOrder::BOTH_WAYS.into_iter().find(|o| o.word() == word);
            let order = order.ok_or_else(|| ServiceError::Refused(format!("“{word}” is no order of a date.")))?;
            scan.plan.columns[i].format = ValueFormat::Date { order };
        }
        let column = &scan.plan.columns[i];
        let Some(word) = form.answers.get(&format!("kind_{i}")) else { continue };
        let kind: Kind = word.parse().map_err(ServiceError::Refused)?;
        if kind != column.kind {
            let name = column.name.clone();
            scan.plan.read_as(&name, kind);
        }
    }
    let job = bring_in(&app, &upload, &scan).await?;
    see_other(&format!("/jobs/{job}"))
}

/// How a file that waits to be accepted was understood.
pub fn ready(upload: &upload::Model) -> Result<Scan, ServiceError> {
    upload.scanned()?.filter(|_| upload.state == "ready").ok_or_else(|| {
        ServiceError::Refused(
            "The file is not ready to be accepted: it is still being read, or was accepted already.".into(),
        )
    })
}

/// Makes a file a table, as it is now understood; the job.
pub async fn bring_in(app: &App, upload: &upload::Model, scan: &Scan) -> Result<i64, StoreError> {
    let (title, work) = (format!("Importing {}", upload.file_name), Work::Import { upload: upload.id });
    let change = StateChange::UploadAccepted { upload: upload.id, scan };
    app.store.change_and_enqueue((upload.workspace_id, None), (&title, &work), change).await
}

/// The rows that do not fit, with their lines and reasons.
pub async fn rejects(app: web::Data<App>, visitor: Visitor, path: web::Path<i64>) -> PageResult {
    let upload = app.store.upload(visitor.workspace_id(), *path).await?;
    let scan = upload.scanned()?.ok_or(ServiceError::NotFound)?;
    csv_file("rejects.csv", scan.rejects_csv().into_bytes())
}
