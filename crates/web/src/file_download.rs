//! Rows as a file to be taken away.

use std::fs::File;
use std::io::{BufWriter, Seek};
use std::sync::{Arc, Weak};

use actix_web::HttpResponse;
use actix_web::body::SizedStream;
use actix_web::web::Bytes;
use futures_util::stream::try_unfold;
use pronoia_core::Table;
use pronoia_core::write::{FileError, FileFormat};
use pronoia_service::ServiceError;
use pronoia_store::StoreError;
use pronoia_store::record_table;
use tokio::io::AsyncReadExt;

use crate::App;

/// Rows that are written at a time.
const ROWS: usize = 20_000;

/// Bytes that are sent at a time.
const PIECE: usize = 64 << 10;

/// Which rows of a part of a table are kept, by their number.
pub(crate) type RowFilter = Box<dyn Fn(&Table, usize) -> bool + Send>;

/// What becomes a file.
pub(crate) struct Taking<'t> {
    /// The table.
    pub table: &'t record_table::Model,
    /// The columns, in the order in which they stand in the file.
    pub columns: Vec<String>,
    /// Columns that `keep` looks at besides.
    pub also: Vec<String>,
    /// How many rows are kept.
    pub rows: u64,
    /// Which; all where nothing is said.
    pub keep: Option<RowFilter>,
}

/// Why there is no file.
#[derive(Debug, thiserror::Error)]
enum NotWritten {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    File(#[from] FileError),
    #[error(transparent)]
    Disk(#[from] std::io::Error),
    #[error("The file could not be written: {0}.")]
    Columns(String),
}

impl From<NotWritten> for ServiceError {
    fn from(e: NotWritten) -> Self {
        match e {
            NotWritten::Store(e) => e.into(),
            NotWritten::Disk(e) => e.into(),
            other => Self::Refused(other.to_string()),
        }
    }
}

impl Taking<'_> {
    /// The whole file, sent once it was written, so that it is whole or refused in words; neither
    /// the rows nor the file are held in memory.
    pub async fn sent(self, app: &App, name: &str, form: FileFormat) -> Result<HttpResponse, ServiceError> {
        let stored = self.table.stored_columns()?;
        let kind = |name: &String| stored.iter().find(|c| c.name == *name).map(|c| (c.name.clone(), c.kind));
        let columns: Vec<_> = self.columns.iter().filter_map(kind).collect();
        let mut read = self.columns.clone();
        read.extend(self.also);
        read.sort_unstable();
        read.dedup();
        let _turn = app.exports.take().await?;
        let mut parts = app.store.for_exports().parts(self.table, Some(&read), ROWS).await?;
        let (rows, keep, folder) = (self.rows, self.keep, app.files.uploads.clone());
        // Whoever leaves while it is written lets it be.
        let (stays, asker) = asker();
        let writing = move || -> Result<File, NotWritten> {
            std::fs::create_dir_all(&folder)?;
            // It has no name, and is gone with whoever reads it.
            let mut file = tempfile::tempfile_in(&folder)?;
            let mut written = form.begin(&columns, rows, BufWriter::new(&mut file))?;
            while let Some(part) = parts.wait()? {
                if stays.upgrade().is_none() {
                    return Err(NotWritten::Columns("the client has disconnected".into()));
                }
                let chosen = columns.iter().filter_map(|(name, _)| part.column(name).cloned()).collect();
                let chosen = Table::new(chosen).map_err(NotWritten::Columns)?;
                match &keep {
                    None => written.add(&chosen)?,
                    Some(keep) => {
                        let those: Vec<usize> = (0..part.rows()).filter(|&row| keep(&part, row)).collect();
                        written.add(&chosen.take(&those))?;
                    }
                }
            }
            written.finish()?;
            file.rewind()?;
            Ok(file)
        };
        let file = behind(writing).await??;
        drop(asker);
        attachment(file, &format!("{name}.{}", form.extension()), form.media_type())
    }
}

/// Whether somebody still waits for something: there is nothing to upgrade to once they have left.
fn asker() -> (Weak<()>, Arc<()>) {
    let asker = Arc::new(());
    (Arc::downgrade(&asker), asker)
}

/// Works something out on a thread of its own, which stands back behind whatever answers pages.
async fn behind<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, ServiceError> {
    let (sender, receiver) = tokio::sync::oneshot::channel();
    let thread = std::thread::Builder::new().name("export".into()).spawn(move || {
        pronoia_service::jobs::stand_back();
        // Nobody receives it any more who has left.
        let _ = sender.send(work());
    });
    thread.map_err(ServiceError::File)?;
    receiver.await.map_err(|_| ServiceError::BrokeOff)
}

/// A file that was written, sent piece by piece.
///
/// # Errors
/// If it cannot be read.
pub(crate) fn attachment(file: File, name: &str, media_type: &str) -> Result<HttpResponse, ServiceError> {
    let size = file.metadata()?.len();
    let piece = |mut file: tokio::fs::File| async move {
        let mut bytes = Vec::with_capacity(PIECE);
        let read = (&mut file).take(PIECE as u64).read_to_end(&mut bytes).await?;
        Ok::<_, std::io::Error>((read > 0).then_some((Bytes::from(bytes), file)))
    };
    let body = SizedStream::new(size, try_unfold(tokio::fs::File::from_std(file), piece));
    Ok(HttpResponse::Ok()
        .content_type(media_type)
        .insert_header(("Content-Disposition", format!("attachment; filename=\"{name}\"")))
        .body(body))
}
