//! Files of the uploads folder that nobody needs any more are removed after a day.

use std::collections::HashSet;
use std::path::Path;
use std::time::{Duration, SystemTime};

use crate::App;

/// How long a file that belongs to nothing is left alone: what writes it may still be at it.
const LEFT_ALONE: Duration = Duration::from_secs(24 * 60 * 60);

/// How often it is looked.
const EVERY: Duration = Duration::from_secs(60 * 60);

/// Looks now and then, for as long as the server runs.
pub(super) async fn keep_sweeping(app: App) {
    loop {
        match app.store.files_needed().await {
            Ok(needed) => {
                let folder = app.files.uploads.clone();
                let swept = tokio::task::spawn_blocking(move || sweep(&folder, &needed, LEFT_ALONE)).await;
                if let Ok(Ok(removed @ 1..)) = swept {
                    tracing::info!("{removed} files that belonged to nothing were removed");
                }
            }
            Err(e) => tracing::debug!("it is not known which files are needed: {e}"),
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// Removes files of ours that are older than `left_alone` and that nobody needs; how many.
fn sweep(folder: &Path, needed: &[String], left_alone: Duration) -> std::io::Result<usize> {
    let needed: HashSet<&str> = needed.iter().filter_map(|path| Path::new(path).file_name()?.to_str()).collect();
    let mut removed = 0;
    for file in std::fs::read_dir(folder)? {
        let file = file?;
        let name = file.file_name();
        let Some(name) = name.to_str().filter(|name| is_ours(name) && !needed.contains(name)) else { continue };
        let age = SystemTime::now().duration_since(file.metadata()?.modified()?).unwrap_or_default();
        if age > left_alone {
            tracing::debug!("removing {name}");
            std::fs::remove_file(file.path())?;
            removed += 1;
        }
    }
    Ok(removed)
}

/// Whether a file is called as we call them.
fn is_ours(name: &str) -> bool {
    let (random, rest) = name.split_at_checked(32).unwrap_or((name, ""));
    random.len() == 32 && random.bytes().all(|b| b.is_ascii_hexdigit()) && (rest.is_empty() || rest.starts_with('-'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_old_files_of_ours_that_nobody_needs_are_removed() {
        let folder = tempfile::tempdir().expect("a folder");
        let name = |n: u8| format!("{n:032x}");
        for file in [name(1), name(2), format!("{}-7-1", name(3)), "notes.csv".to_owned()] {
            std::fs::write(folder.path().join(file), "x").expect("written");
        }
        let needed = [format!("/elsewhere/{}", name(1))];
        assert_eq!(sweep(folder.path(), &needed, Duration::from_secs(60)).expect("swept"), 0, "too young");
        assert_eq!(sweep(folder.path(), &needed, Duration::ZERO).expect("swept"), 2);
        let left: HashSet<String> = std::fs::read_dir(folder.path())
            .expect("a folder")
            .map(|file| file.expect("a file").file_name().into_string().expect("a name"))
            .collect();
        assert_eq!(left, HashSet::from([name(1), "notes.csv".to_owned()]));
    }
}
