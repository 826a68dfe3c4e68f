//! Files that lie in the folder which the operator shares: fetched like files that are sent.

use std::path::Path;

use actix_web::web;
use chrono::{DateTime, Utc};
use pronoia_service::ServiceError;
use pronoia_service::text;
use pronoia_store::uploads::Arrived;
use serde::Deserialize;

use crate::App;
use crate::pages::{PageResult, see_other};
use crate::session::Visitor;

/// Files listed at most.
const MOST: usize = 200;

/// A file in the folder.
pub(crate) struct FolderFile {
    /// Its name.
    pub name: String,
    /// Its size, in words.
    pub size: String,
    /// When it was last changed.
    pub changed: String,
    /// Whether it was fetched since.
    pub state: State,
}

/// Where a file stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum State {
    /// Never fetched.
    New,
    /// Changed since it was fetched.
    Changed,
    /// Fetched as it is.
    Fetched,
}

impl State {
    /// In words.
    pub(crate) fn words(self) -> &'static str {
        match self {
            Self::New => "not fetched yet",
            Self::Changed => "changed since it was fetched",
            Self::Fetched => "fetched",
        }
    }
}

/// The plain files of the folder with size and moment of change, newest first.
fn files(folder: &Path) -> std::io::Result<Vec<(String, u64, DateTime<Utc>)>> {
    let mut files: Vec<(String, u64, DateTime<Utc>)> = Vec::new();
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        // Links are passed over: they may lead out of the folder.
        let about = entry.path().symlink_metadata()?;
        let Ok(name) = entry.file_name().into_string() else { continue };
        if about.is_file() && !name.starts_with('.') && !name.chars().any(char::is_control) {
            files.push((name, about.len(), about.modified()?.into()));
        }
    }
    files.sort_by(|a, b| b.2.cmp(&a.2).then_with(|| a.0.cmp(&b.0)));
    files.truncate(MOST);
    Ok(files)
}

/// What lies in the folder, if one is shared; an error in words if it cannot be read.
pub(crate) async fn held(app: &App, workspace: i64) -> Result<Result<Vec<FolderFile>, String>, ServiceError> {
    let Some(folder) = app.files.folder.clone() else { return Ok(Ok(Vec::new())) };
    let fetched = app.store.last_uploads(workspace).await?;
    let listed = web::block(move || files(&folder)).await.map_err(|e| ServiceError::Refused(e.to_string()))?;
    Ok(match listed {
        Err(e) => Err(format!("The shared folder cannot be read: {e}. Ask whoever runs this server.")),
        Ok(files) => Ok(files
            .into_iter()
            .map(|(name, size, changed)| FolderFile {
                state: match fetched.get(&name) {
                    None => State::New,
                    Some(when) if *when < changed => State::Changed,
                    Some(_) => State::Fetched,
                },
                size: text::bytes(size),
                changed: text::moment(&changed),
                name,
            })
            .collect()),
    })
}

/// Which file.
#[derive(Deserialize)]
pub struct Fetch {
    csrf: String,
    name: String,
}

/// Fetches a file: it is copied as it is now, and read like one that was sent.
pub async fn fetch(app: web::Data<App>, visitor: Visitor, form: web::Form<Fetch>) -> PageResult {
    visitor.check(&form.csrf)?;
    let folder = app.files.folder.clone().ok_or(ServiceError::NotFound)?;
    let path = app.place().await?;
    let (name, most) = (form.name.clone(), app.files.most_upload);
    let copied = web::block(move || {
        // Only what is listed can be fetched, so that no name leads out of the folder.
        let (name, size, _) = files(&folder)?.into_iter().find(|file| file.0 == name).ok_or_else(|| {
            ServiceError::Refused(format!("There is no file “{name}” in the shared folder any more."))
        })?;
        if size > most {
            return Err(ServiceError::TooLarge(format!(
                "{name} is larger than the {} that are allowed. Nothing was fetched.",
                text::bytes(most)
            )));
        }
        let size = std::fs::copy(folder.join(&name), &path)?;
        Ok::<_, ServiceError>((name, path, size))
    });
    let (name, path, size) = copied.await.map_err(|e| ServiceError::Refused(e.to_string()))??;
    let arrived = Arrived { file_name: &name, origin: Some("fetched from the shared folder"), path: &path, size };
    let job = pronoia_service::records::take_in(&app, visitor.workspace_id(), None, &arrived).await?.job;
    see_other(&format!("/jobs/{job}"))
}
