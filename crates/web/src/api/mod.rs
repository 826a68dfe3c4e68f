//! What other programs call: releases that score customers, and a document that says how.

pub mod actions;
mod answer;
mod document;
mod key_cache;
mod score;
mod workspace;

use actix_web::web::{self, ServiceConfig};

use crate::rights::doors;

pub use score::{Request, scored_by, written};

/// Bytes of a request at most.
const MOST_BYTES: usize = 8_000_000;

doors! {
    "/api/v1";
    Anybody get "/openapi.json" => document::document;
    Anybody get "/formula.schema.json" => document::formula_schema;
    Program post "/releases/{name}/score" => score::score;
    Program get "/tables" => workspace::tables::all;
    Program post "/files" => workspace::tables::send;
    Program get "/files/{id}" => workspace::tables::file;
    Program post "/files/{id}/accept" => workspace::tables::accept;
    Program get "/jobs/{id}" => workspace::jobs::one;
    Program get "/studies" => workspace::studies::all;
    Program post "/studies" => workspace::studies::begin;
    Program get "/studies/{id}" => workspace::studies::one;
    Program post "/studies/{id}/fits" => workspace::fits::begin;
    Program get "/studies/{id}/lists" => workspace::lists::all;
    Program post "/studies/{id}/lists" => workspace::lists::bring;
    Program post "/studies/{id}/lists/{list}/score" => workspace::lists::score;
    Program get "/studies/{id}/lists/{list}/scored.{form}" => workspace::lists::take;
}

/// The addresses with what holds for all of them.
pub fn service(config: &mut ServiceConfig) {
    config.service(
        web::scope(PREFIX)
            .app_data(web::PayloadConfig::new(MOST_BYTES))
            .configure(routes)
            .configure(actions::routes)
            .default_service(web::to(answer::nothing_here)),
    );
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    /// The Rust files below a folder, with their text.
    fn files(folder: &Path) -> Vec<(String, String)> {
        let mut found = Vec::new();
        for entry in std::fs::read_dir(folder).expect("a folder") {
            let path = entry.expect("an entry").path();
            if path.is_dir() {
                found.extend(files(&path));
            } else if path.extension().is_some_and(|extension| extension == "rs") {
                found.push((path.display().to_string(), std::fs::read_to_string(&path).expect("text")));
            }
        }
        found
    }

    #[test]
    fn programs_and_actions_do_not_go_through_pages() {
        let source = Path::new(env!("CARGO_MANIFEST_DIR"));
        // Written apart, so that this file is not found by it.
        let pages = ["pages", "::"].concat();
        for folder in [source.join("src/api"), source.join("../service/src")] {
            let read = files(&folder);
            assert!(read.len() > 8, "{}", folder.display());
            for (name, text) in read {
                let found = text
                    .lines()
                    .find(|line| line.contains(&pages) || line.contains(&format!("crate::{}", &pages[..5])));
                assert_eq!(found, None, "{name}");
            }
        }
        let declared = std::fs::read_to_string(source.join("../service/Cargo.toml")).expect("text");
        for above in ["actix", "askama", "pronoia-web"] {
            assert!(!declared.contains(above), "the layer of actions knows nothing of {above}");
        }
    }
}
