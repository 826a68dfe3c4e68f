//! What is remarked on an entry later: words, a file, or both.

use actix_multipart::Multipart;
use actix_web::{HttpResponse, web};
use futures_util::TryStreamExt;
use pronoia_service::ServiceError;
use pronoia_store::ledger::LedgerRemark;
use serde::Deserialize;

use super::entry::EntryPath;
use crate::App;
use crate::error::PageError;
use crate::frame::encoded;
use crate::pages::records::uploads;
use crate::pages::{PageResult, see_other};
use crate::session::Visitor;

/// The longest remark, in characters.
const LONGEST: usize = 2_000;

/// The most bytes of a file.
const MOST_BYTES: usize = 5_000_000;

/// Remarks something. The field `csrf` comes before the file.
pub async fn add(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<EntryPath>,
    mut parts: Multipart,
) -> PageResult {
    let study = app.store.study(visitor.workspace_id(), path.id).await?;
    let entry = app.store.ledger_entry(study.id, path.entry).await?;
    let broken = || ServiceError::Refused("The remark did not arrive whole. Nothing was kept; send it again.".into());
    let (mut is_checked, mut words, mut file) = (false, String::new(), None);
    while let Some(mut part) = parts.try_next().await.map_err(|_| broken())? {
        match part.name().unwrap_or_default() {
            "csrf" => {
                visitor.check(&uploads::text_of(&mut part).await?)?;
                is_checked = true;
            }
            "said" => {
                let too_long =
                    || ServiceError::Refused(format!("A remark has up to {LONGEST} letters; put more into a file."));
                let bytes = part.bytes(LONGEST * 4).await.map_err(|_| too_long())?.map_err(|_| broken())?;
                words = String::from_utf8(bytes.to_vec()).map_err(|_| broken())?.trim().to_owned();
                if words.chars().count() > LONGEST {
                    return Err(too_long().into());
                }
            }
            "file" if is_checked => {
                let name = pronoia_service::records::name_of(
                    part.content_disposition().and_then(|d| d.get_filename()).unwrap_or(""),
                );
                let bytes = part.bytes(MOST_BYTES).await.map_err(|_| {
                    ServiceError::TooLarge(format!(
                        "The file is larger than the {} that are allowed. Nothing was kept.",
                        pronoia_service::text::bytes(MOST_BYTES as u64)
                    ))
                })?;
                let bytes = bytes.map_err(|_| broken())?;
                if !name.is_empty() {
                    file = Some((name, bytes));
                }
            }
            _ => {}
        }
    }
    if !is_checked {
        return Err(PageError::Forged);
    }
    if words.is_empty() && file.is_none() {
        return Err(ServiceError::Refused("Write something, or choose a file.".into()).into());
    }
    let file = file.as_ref().map(|(name, bytes)| (name.as_str(), &bytes[..]));
    app.store.remark(entry.id, &LedgerRemark { account_id: visitor.account_id(), words: &words, file }).await?;
    see_other(&format!("/studies/{}/ledger/{}", study.id, entry.id))
}

/// The keys in the address of a file.
#[derive(Deserialize)]
pub struct RemarkPath {
    id: i64,
    remark: i64,
}

/// Gives a file, always to be saved and never to be shown as a page of ours.
pub async fn file(app: web::Data<App>, visitor: Visitor, path: web::Path<RemarkPath>) -> PageResult {
    let study = app.store.study(visitor.workspace_id(), path.id).await?;
    let (name, bytes) = app.store.remarked_file(study.id, path.remark).await?;
    Ok(HttpResponse::Ok()
        .content_type("application/octet-stream")
        .insert_header(("Content-Disposition", format!("attachment; filename*=UTF-8''{}", encoded(&name))))
        .body(bytes))
}
