//! A file arrives, is previewed and accepted.

use actix_multipart::{Field, Multipart};
use actix_web::web;
use askama::Template;
use futures_util::TryStreamExt;
use pronoia_core::Kind;
use pronoia_core::intake::{Format, Scan};
use pronoia_core::value::DateOrder;
use pronoia_service::ServiceError;
use pronoia_service::records::{AcceptFile, ReadSheet, name_of, take_in};
use pronoia_store::upload;
use pronoia_store::uploads::Arrived;
use serde::Deserialize;

use crate::App;
use crate::error::{PageError, html};
use crate::frame::Frame;
use crate::pages::{PageResult, csv_file, see_other};
use crate::received_file::stored;
use crate::session::Visitor;

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
    let sheet = form.into_inner().sheet;
    let job = app.perform(visitor.actor(), ReadSheet { file: *path, sheet }).await?.job;
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
    let typed = |what: &str| {
        let of = |(name, word): (&String, &String)| Some((name.strip_prefix(what)?.parse().ok()?, word.clone()));
        form.answers.iter().filter_map(of).collect()
    };
    let accept = AcceptFile { file: *path, kinds: typed("kind_"), orders: typed("order_") };
    let job = app.perform(visitor.actor(), accept).await?.job;
    see_other(&format!("/jobs/{job}"))
}

/// The rows that do not fit, with their lines and reasons.
pub async fn rejects(app: web::Data<App>, visitor: Visitor, path: web::Path<i64>) -> PageResult {
    let upload = app.store.upload(visitor.workspace_id(), *path).await?;
    let scan = upload.scanned()?.ok_or(ServiceError::NotFound)?;
    csv_file("rejects.csv", scan.rejects_csv().into_bytes())
}
