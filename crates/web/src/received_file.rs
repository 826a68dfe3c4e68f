//! A file that somebody sends, streamed to the uploads folder.

use std::fmt::Display;
use std::path::{Path, PathBuf};

use actix_web::web::Bytes;
use futures_util::{Stream, TryStreamExt};
use pronoia_service::{ServiceError, text};
use tokio::io::AsyncWriteExt;

use crate::App;

/// A file as it arrives.
pub type Pieces<'a, E> = dyn Stream<Item = Result<Bytes, E>> + Unpin + 'a;

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
