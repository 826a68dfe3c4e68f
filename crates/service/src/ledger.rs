//! What is done at the ledger: entries undone, studies branched.

use pronoia_core::prepare::steps;
use pronoia_core::study::StudyState;
use pronoia_store::ledger_entry;
use pronoia_store::member_role::MemberRole;
use pronoia_store::studies::{Author, Choice};
use serde::Deserialize;
use utoipa::ToSchema;

use crate::action::{Action, ActionScope, Created, Declaration};
use crate::choices::choose;
use crate::error::ServiceError;
use crate::prepare::split;
use crate::study_view::StudyView;
use crate::{App, studies, text};

/// Undoes an entry, or redoes one that was undone.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UndoEntry {
    /// The study.
    pub study: i64,
    /// The entry of its ledger.
    pub entry: i64,
}

impl Action for UndoEntry {
    const DECLARATION: Declaration = Declaration {
        title: "Undo an entry of the ledger",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/ledger/{entry}/undo",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let study = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let entry = scope.app.store.ledger_entry(study.study.id, self.entry).await?;
        let state = left_without(scope.app, &study, &entry).await?;
        let app = scope.begin().await?;
        Ok(app.store.take_back(&study.study, &entry, &state, scope.by.account).await?)
    }
}

/// Begins a study with the choices as they stood once an entry was made.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BranchStudy {
    /// The study that it is branched from.
    pub study: i64,
    /// The entry of its ledger.
    pub entry: i64,
    /// The question of the new study, in a sentence.
    pub title: String,
}

impl Action for BranchStudy {
    const DECLARATION: Declaration = Declaration {
        title: "Branch a study",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/ledger/{entry}/branch",
        status: 201,
    };
    type Done = Created;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Created, ServiceError> {
        let title = studies::title_of(&self.title)?;
        let study = scope.app.store.study(scope.by.workspace, self.study).await?;
        let entry = scope.app.store.ledger_entry(study.id, self.entry).await?;
        let mut state = scope.app.store.choices_at(&study, entry.id).await?;
        // Candidates belong to the study that they were fitted in.
        state.policy = None;
        let table = scope.app.store.table(scope.by.workspace, study.table_id).await?;
        let app = scope.begin().await?;
        let begun = studies::begin(app, scope.by, &table, title, study.kind()).await?;
        let seen = app.store.study(scope.by.workspace, begun).await?;
        let choice = Choice {
            by: Author::from(scope.by.account),
            chosen: format!("Branched from “{}”", study.title),
            figure: format!("as after “{}” on {}", entry.chosen, text::moment(&entry.created_at)),
        };
        choose(app, &seen, &state, &choice).await?;
        Ok(Created { id: begun })
    }
}

/// The choices that are left without an entry, if work can go on with them.
///
/// # Errors
/// [`ServiceError::Refused`] if it cannot.
pub async fn left_without(
    app: &App,
    study: &StudyView,
    entry: &ledger_entry::Model,
) -> Result<StudyState, ServiceError> {
    let state = app.store.choices_without(&study.study, entry).await?;
    let table = app.store.table(study.study.workspace_id, study.study.records(state.table)).await?;
    let kinds = table.kinds()?;
    steps::checked(&state.steps, &kinds)
        .map_err(|e| ServiceError::Refused(format!("Without it the steps could not be applied any more. {e}")))?;
    let made: Vec<String> = state.steps.iter().filter_map(|step| step.action.makes()).collect();
    let lacking = state.columns.iter().filter(|c| c.goes_in()).find(|c| {
        kinds.iter().all(|kind| kind.0 != c.name) && !made.contains(&c.name) && state.columns != study.state.columns
    });
    if let Some(column) = lacking {
        return Err(ServiceError::Refused(format!(
            "Without it {} would be a predictor that no step derives any more. Exclude that column first; nothing was changed.",
            column.name
        )));
    }
    if state.outcome.is_some() {
        split::check(app, study, &state).await?;
    }
    Ok(state)
}
