//! What a source gives is put down as a file, and comes in like one.

use std::time::Duration;

use pronoia_store::queries::QueryError;
use pronoia_store::sources::{FetchError, MostFetched};
use pronoia_store::uploads::Arrived;

use super::{Trouble, Watch, import};
use crate::App;

/// How long a source may take.
const LONGEST: Duration = Duration::from_mins(30);

impl From<FetchError> for Trouble {
    fn from(e: FetchError) -> Self {
        match e {
            FetchError::Stopped(_) => Self::Stopped,
            FetchError::Query(QueryError::Store(e)) => e.into(),
            FetchError::Query(question) => Self::Failed(question.to_string()),
        }
    }
}

/// Reads all that a SELECT gives at a source, and says what is in it.
pub(super) async fn fetch(
    app: &App,
    workspace: i64,
    (source, sql, name): (i64, &str, &str),
    watch: &Watch,
) -> Result<String, Trouble> {
    if let Some(upload) = app.store.upload_of_job().await? {
        return import::scan(app, workspace, upload, None, watch).await;
    }
    let source = app.store.source(workspace, source).await?;
    let failed = |e: std::io::Error| Trouble::Failed(format!("The uploads folder cannot be used: {e}."));
    let path = app.place().await.map_err(failed)?;
    let most = MostFetched { time: LONGEST, bytes: app.files.most_upload };
    let fetched = match app.connector.fetch(&source, sql, &path, &most, watch).await {
        Ok(fetched) => fetched,
        Err(e) => {
            if let Err(e) = tokio::fs::remove_file(&path).await {
                tracing::debug!("nothing was written yet: {e}");
            }
            return Err(e.into());
        }
    };
    let mut origin = format!("read from {} with “{}”", source.name, in_one_line(sql));
    if !fetched.left_out.is_empty() {
        origin += &format!(", without {} (bytes)", fetched.left_out.join(", "));
    }
    let file_name = format!("{name}.arrow");
    let arrived = Arrived { file_name: &file_name, origin: Some(&origin), path: &path, size: fetched.bytes };
    let upload = match app.store.add_upload(workspace, None, &arrived).await {
        Ok(upload) => upload,
        Err(e) => {
            let _ = tokio::fs::remove_file(&path).await;
            return Err(e.into());
        }
    };
    import::scan(app, workspace, upload, None, watch).await
}

/// A question as it stands in a sentence.
fn in_one_line(sql: &str) -> String {
    const MOST: usize = 160;
    let line = sql.split_whitespace().collect::<Vec<_>>().join(" ");
    if line.chars().count() <= MOST { line } else { line.chars().take(MOST).chain(['…']).collect() }
}
