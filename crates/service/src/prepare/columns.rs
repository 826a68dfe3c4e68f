//! The roles of columns.

use pronoia_core::study::{ColumnRole, KnownWhen, StudyState, Verdict};
use pronoia_store::member_role::MemberRole;
use pronoia_store::studies::Choice;
use pronoia_store::study;
use serde::Deserialize;
use utoipa::ToSchema;

use crate::action::Actor;
use crate::action::{Action, ActionScope, Declaration};
use crate::choices::choose;
use crate::error::ServiceError;
use crate::{App, text};

/// Excludes every column that should not be a predictor.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ExcludeProposed {
    /// The study.
    pub study: i64,
}

impl Action for ExcludeProposed {
    const DECLARATION: Declaration = Declaration {
        title: "Exclude the columns that are proposed to be excluded",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/exclusions",
        status: 200,
    };
    type Done = Vec<String>;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Vec<String>, ServiceError> {
        let study = scope.app.store.study(scope.by.workspace, self.study).await?;
        exclude(scope.begin().await?, scope.by, &study).await
    }
}

/// Excludes every column of a study that should not be a predictor, within the transaction of an action; their names.
pub(crate) async fn exclude(app: &App, by: Actor, study: &study::Model) -> Result<Vec<String>, ServiceError> {
    let mut state: StudyState = study.choices()?;
    let mut names = Vec::new();
    for column in &mut state.columns {
        if column.stands_under() == Verdict::ShouldNotGoIn {
            names.push(column.name.clone());
            *column = column.left_out();
        }
    }
    if !names.is_empty() {
        let chosen = format!("{} excluded", text::counted(names.len(), "column", "columns"));
        let choice = Choice { by: by.author(), chosen, figure: names.join(", ") };
        choose(app, study, &state, &choice).await?;
    }
    Ok(names)
}

/// Sets the role of a column, and when its values are known.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetColumnRole {
    /// The study.
    pub study: i64,
    /// The column.
    pub column: String,
    /// `predictor`, `identifier`, `sensitive`, `fit weight` and so on.
    pub role: String,
    /// `before`, `afterwards` or `unsure`; as it is where nothing is said.
    #[serde(default)]
    pub known_when: Option<String>,
    /// Why, for the ledger; what it was before where nothing is said.
    #[serde(default)]
    pub reason: String,
}

impl Action for SetColumnRole {
    const DECLARATION: Declaration = Declaration {
        title: "Set the role of a column",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/columns",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let study = scope.app.store.study(scope.by.workspace, self.study).await?;
        let role: ColumnRole = self.role.parse().map_err(ServiceError::Refused)?;
        let known_when: Option<KnownWhen> =
            self.known_when.as_deref().map(str::parse).transpose().map_err(ServiceError::Refused)?;
        let mut state = study.choices()?;
        let column = state.columns.iter_mut().find(|c| c.name == self.column).ok_or(ServiceError::NotFound)?;
        if (role == ColumnRole::Outcome) != (column.role == ColumnRole::Outcome) {
            return Err(ServiceError::Refused(
                "The outcome is chosen at the top of this page; there is one outcome.".into(),
            ));
        }
        let said = known_when.map_or(String::new(), |known_when| format!(", known {}", known_when.word()));
        let known_when = known_when.unwrap_or(column.known_when);
        if (column.role, column.known_when) == (role, known_when) {
            return Ok(());
        }
        let before = format!("{}, {}", column.role.word(), column.known_when.word());
        column.role = role;
        column.known_when = known_when;
        // Somebody has said so now.
        if column.verdict == Verdict::AskedAbout && known_when != KnownWhen::Unsure {
            column.verdict = Verdict::GoesIn;
        }
        let choice = Choice {
            by: scope.by.author(),
            chosen: format!("{}: {}{said}", self.column, role.word()),
            figure: if self.reason.is_empty() { format!("was {before}") } else { self.reason },
        };
        choose(scope.begin().await?, &study, &state, &choice).await
    }
}
