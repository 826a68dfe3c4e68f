//! Taking an entry back, and what would follow from it.

use actix_web::web;
use pronoia_core::study::StudyState;
use pronoia_service::ServiceError;
use pronoia_service::ledger::UndoEntry;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use pronoia_store::candidates::StoredCandidate;
use serde::Deserialize;

use crate::App;
use crate::pages::{PageResult, StudyPath, see_other};
use crate::session::Visitor;

/// The entry to take back.
#[derive(Deserialize)]
pub struct TakeBack {
    csrf: String,
    entry: i64,
    /// The page to go on with.
    back: String,
}

/// Takes an entry back.
pub async fn take_back(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<TakeBack>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.perform(visitor.actor(), UndoEntry { study: path.id, entry: form.entry }).await?;
    let pages = ["records", "drivers", "prepare", "train", "compare", "decide", "lists", "live", "ledger"];
    let back = if pages.contains(&form.back.as_str()) { &form.back } else { "prepare" };
    see_other(&format!("/studies/{}/{back}", path.id))
}

/// What becomes of everything that rests on the choices, in sentences.
pub(super) fn consequences(study: &StudyView, state: &StudyState) -> Result<Vec<String>, ServiceError> {
    let mut said = Vec::new();
    let (present, then) = (study.state.basis(), state.basis());
    let rests_on = |model: &StoredCandidate, basis| model.fitted_on().ok() == Option::as_ref(basis);
    let fitted = || study.fitted().filter(|model| !model.retired);
    let names =
        |models: Vec<&StoredCandidate>| text::listed(&models.iter().map(|m| m.name.as_str()).collect::<Vec<_>>());
    if present != then {
        let stale: Vec<_> = fitted().filter(|m| rests_on(m, &present) && !rests_on(m, &then)).collect();
        let again: Vec<_> = fitted().filter(|m| !rests_on(m, &present) && rests_on(m, &then)).collect();
        if !stale.is_empty() {
            let count = text::counted(stale.len(), "candidate becomes stale", "candidates become stale");
            said.push(format!("{count}: {}. They stay, marked as stale.", names(stale)));
        }
        if !again.is_empty() {
            let count = text::counted(again.len(), "candidate is current again", "candidates are current again");
            said.push(format!("{count}: {}.", names(again)));
        }
        said.push(match then {
            Some(_) => "The rows are checked again, and cautions are raised again.".into(),
            None => "There is no outcome then: nothing can be fitted until one is chosen.".to_owned(),
        });
    }
    if state.policy != study.state.policy {
        said.push(match state.policy {
            Some(_) => "The policy changes, as listed above.".into(),
            None => "There is no policy then.".into(),
        });
    } else if let Some((_, model)) = study.policy_model()
        && rests_on(model, &present)
        && !rests_on(model, &then)
    {
        said.push(format!("The policy stays and uses {}, which becomes stale.", model.name));
    }
    let scored = study.lists.iter().filter(|list| list.state == "scored").count();
    if scored > 0 {
        said.push(text::counted(scored, "scored list stays as it is.", "scored lists stay as they are."));
    }
    if study.releases > 0 {
        said.push(text::counted(study.releases, "release is as before.", "releases are as before."));
    }
    if said.is_empty() {
        said.push("No result depends on it.".into());
    }
    Ok(said)
}
