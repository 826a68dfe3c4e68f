//! Why something was not done, in words.

use std::io::ErrorKind;

use pronoia_store::StoreError;
use thiserror::Error;

/// Why something was not done. Nothing was changed then.
#[derive(Debug, Error)]
pub enum ServiceError {
    /// Whoever asks may not do this.
    #[error("{0}")]
    NotAllowed(&'static str),
    /// Asked for something that is not possible.
    #[error("{0}")]
    Refused(String),
    /// Somebody changed the same in the meantime; what they entered.
    #[error(
        "While this page was open, the study was changed in the place that you changed. Nothing was overwritten. Go back, reload the page, and choose again."
    )]
    Overtaken(Vec<String>),
    /// Too large.
    #[error("{0}")]
    TooLarge(String),
    /// There is no such thing.
    #[error("There is nothing at this address. It may be mistyped, or what was here was deleted.")]
    NotFound,
    /// From the store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A mistake of ours ended the work.
    #[error("This failed because of an error in the program. Nothing was changed; please report it.")]
    BrokeOff,
    /// A file could not be written or read.
    #[error("{}", of_file(.0))]
    File(#[from] std::io::Error),
}

fn of_file(e: &std::io::Error) -> String {
    if e.kind() == ErrorKind::StorageFull {
        "The disk that uploads lie on is full. Nothing was kept; whoever runs this server has to free some space, then send it again.".into()
    } else {
        format!("The file could not be kept: {e}. Nothing was changed.")
    }
}
