//! The steps of a preparation, added and changed.

use pronoia_core::Kind;
use pronoia_core::expression::Type;
use pronoia_core::prepare::{PreparationStep, StepAction, steps};
use pronoia_core::study::{ColumnChoice, ColumnRole, KnownWhen, StudyState, Verdict};
use pronoia_store::member_role::MemberRole;
use pronoia_store::studies::Choice;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::action::{Action, ActionScope, Declaration};
use crate::choices::choose;
use crate::error::ServiceError;
use crate::study_view::StudyView;

/// Steps of a study, at most.
const MOST_STEPS: usize = 60;

/// The columns that a further step would meet: those of the table and those that steps make.
///
/// # Errors
/// If what is stored cannot be read.
pub fn columns_of(study: &StudyView) -> Result<Vec<(String, Kind)>, ServiceError> {
    Ok(steps::columns_after(&study.state.steps, &study.table.kinds()?))
}

/// The same columns as an expression sees them.
///
/// # Errors
/// If what is stored cannot be read.
pub fn types_of(study: &StudyView) -> Result<Vec<(String, Type)>, ServiceError> {
    Ok(columns_of(study)?.into_iter().map(|(name, kind)| (name, Type::of(kind))).collect())
}

/// The place of a step that was added.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
pub struct AddedStep {
    /// Its place, the first being 1.
    pub step: usize,
}

/// Adds a step at the end.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AddStep {
    /// The study.
    pub study: i64,
    /// The step.
    #[schema(value_type = Object)]
    pub step: StepAction,
    /// Why, for the ledger.
    #[serde(default)]
    pub reason: String,
}

impl Action for AddStep {
    const DECLARATION: Declaration = Declaration {
        title: "Add a step",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/steps",
        status: 200,
    };
    type Done = AddedStep;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<AddedStep, ServiceError> {
        let study = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let action = self.step;
        if study.state.outcome.is_none() {
            return Err(ServiceError::Refused("First set the outcome: choose the outcome on the Prepare page.".into()));
        }
        if study.state.steps.len() == MOST_STEPS {
            return Err(ServiceError::Refused(format!("A preparation has at most {MOST_STEPS} steps.")));
        }
        let mut known = columns_of(&study)?;
        let reads = action.check(&mut known).map_err(|e| ServiceError::Refused(e.to_string()))?;
        let outcome = study.state.outcome.as_ref().map(|o| o.column.clone());
        if reads.iter().any(|name| Some(name) == outcome.as_ref()) && !matches!(action, StepAction::Filter { .. }) {
            return Err(ServiceError::Refused(
            "The step reads the outcome. What is derived from the outcome is leakage: it is not there when a list is scored.".into(),
        ));
        }
        let mut state = study.state.clone();
        let chosen = action.words();
        if let Some(name) = action.makes() {
            state.columns.push(made(&state, &name, &chosen, &reads));
        }
        state.steps.push(PreparationStep { action, off: false });
        let choice = Choice { by: scope.by.author(), chosen, figure: self.reason };
        let added = state.steps.len();
        choose(scope.begin().await?, &study.study, &state, &choice).await?;
        Ok(AddedStep { step: added })
    }
}

/// Changes a step that is there.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeStep {
    /// The study.
    pub study: i64,
    /// Its place, the first being 0.
    pub at: usize,
    /// `off`, `on`, `up`, `down` or `out`.
    pub what: String,
}

impl Action for ChangeStep {
    const DECLARATION: Declaration = Declaration {
        title: "Change a step",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/steps/change",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let study = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let mut state = study.state.clone();
        let step = state.steps.get_mut(self.at).ok_or(ServiceError::NotFound)?;
        let words = step.action.words();
        let chosen = match self.what.as_str() {
            "off" => {
                step.off = true;
                format!("Switched off: {words}")
            }
            "on" => {
                step.off = false;
                format!("Switched on: {words}")
            }
            "up" if self.at > 0 => {
                state.steps.swap(self.at, self.at - 1);
                format!("Moved up: {words}")
            }
            "down" if self.at + 1 < state.steps.len() => {
                state.steps.swap(self.at, self.at + 1);
                format!("Moved down: {words}")
            }
            "out" => {
                let gone = state.steps.remove(self.at);
                if let Some(name) = gone.action.makes() {
                    state.columns.retain(|c| c.name != name);
                }
                format!("Removed: {words}")
            }
            _ => return Err(ServiceError::NotFound),
        };
        let kinds = study.table.kinds()?;
        let breaks = broken(&state, &kinds).into_iter().find(|b| !broken(&study.state, &kinds).contains(b));
        let figure = breaks.map_or(String::new(), |words| format!("“{words}” cannot be applied now"));
        let choice = Choice { by: scope.by.author(), chosen, figure };
        choose(scope.begin().await?, &study.study, &state, &choice).await
    }
}

/// A made column goes in, unless it is made from one that is known only afterwards.
fn made(state: &StudyState, name: &str, words: &str, reads: &[String]) -> ColumnChoice {
    let late: Vec<&str> = state
        .columns
        .iter()
        .filter(|c| reads.contains(&c.name))
        .filter(|c| c.known_when == KnownWhen::Afterwards || c.verdict == Verdict::ShouldNotGoIn)
        .map(|c| c.name.as_str())
        .collect();
    let (known_when, verdict, reason) = match late.as_slice() {
        [] => (KnownWhen::Before, Verdict::GoesIn, format!("made: {words}")),
        late => (
            KnownWhen::Unsure,
            Verdict::ShouldNotGoIn,
            format!("derived from {}, which should be excluded", late.join(", ")),
        ),
    };
    ColumnChoice { name: name.to_owned(), role: ColumnRole::Predictor, known_when, verdict, reason, never: false }
}

/// Steps that cannot be taken as things stand.
fn broken(state: &StudyState, kinds: &[(String, Kind)]) -> Vec<String> {
    let mut known = kinds.to_vec();
    let taken = state.steps.iter().filter(|s| !s.off);
    taken.filter(|s| s.action.check(&mut known).is_err()).map(|s| s.action.words()).collect()
}
