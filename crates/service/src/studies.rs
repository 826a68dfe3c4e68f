//! Studies begun.

use pronoia_core::question::Question;
use pronoia_core::study::{Outcome, StudyState};
use pronoia_store::member_role::MemberRole;
use pronoia_store::record_table;
use serde::Deserialize;
use utoipa::ToSchema;

use crate::action::{Action, ActionScope, Actor, Created, Declaration};
use crate::error::ServiceError;
use crate::prepare::{columns, outcome};
use crate::study_view::StudyView;
use crate::{App, text};

/// Begins a study of a table. With an outcome, that is set, and the columns that are proposed to be excluded are.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CreateStudy {
    /// The table.
    pub table: i64,
    /// The question in a sentence.
    pub title: String,
    /// `churn`, `credit`, `response` or `other`.
    pub question: String,
    /// The outcome column and the value of the event.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub outcome: Option<Outcome>,
}

impl Action for CreateStudy {
    const DECLARATION: Declaration =
        Declaration { title: "Begin a study", role: MemberRole::Analyst, path: "/api/v1/studies", status: 201 };
    type Done = Created;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Created, ServiceError> {
        let title = title_of(&self.title)?;
        let question: Question = self.question.parse().map_err(ServiceError::Refused)?;
        let table = scope.app.store.table(scope.by.workspace, self.table).await?;
        let proposal = match &self.outcome {
            Some(outcome) => Some(outcome::propose(scope.app, &table, outcome, &StudyState::default().split).await?),
            None => None,
        };
        let app = scope.begin().await?;
        let study = begin(app, scope.by, &table, title, question).await?;
        if let Some((outcome, proposal)) = self.outcome.zip(proposal) {
            let view = StudyView::load(app, scope.by.workspace, study).await?;
            outcome::enter(app, scope.by, view, outcome, proposal).await?;
            columns::exclude(app, scope.by, &app.store.study(scope.by.workspace, study).await?).await?;
        }
        Ok(Created { id: study })
    }
}

/// The question of a study as it was typed, in a sentence.
pub(crate) fn title_of(typed: &str) -> Result<&str, ServiceError> {
    let title = typed.trim();
    if title.is_empty() || title.chars().count() > 120 {
        return Err(ServiceError::Refused("Write the question in a sentence of at most 120 letters.".into()));
    }
    Ok(title)
}

/// Begins a study and enters that in its ledger, within the transaction of an action.
pub(crate) async fn begin(
    app: &App,
    by: Actor,
    table: &record_table::Model,
    title: &str,
    question: Question,
) -> Result<i64, ServiceError> {
    let study = app.store.create_study(table, by.account, title, question).await?.id;
    let figure = format!("on {}, {} rows", table.name, text::count_of(table.rows));
    app.store.note(study, Some(by.account), "Study begun", &figure).await?;
    Ok(study)
}
