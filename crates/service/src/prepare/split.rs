//! How rows are split, and how the rarer outcome counts among training rows.

use pronoia_core::balance::{Balance, BalanceMethod};
use pronoia_core::number::percent;
use pronoia_core::split::SplitPlan;
use pronoia_core::study::{Basis, StudyState};
use pronoia_store::member_role::MemberRole;
use pronoia_store::studies::Choice;
use serde::Deserialize;
use utoipa::ToSchema;

use crate::App;
use crate::action::{Action, ActionScope, Declaration};
use crate::choices::choose;
use crate::error::ServiceError;
use crate::study_view::StudyView;

/// Splits the rows otherwise.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetSplit {
    /// The study.
    pub study: i64,
    /// Shares, seed and method.
    #[schema(value_type = Object)]
    pub split: SplitPlan,
}

impl Action for SetSplit {
    const DECLARATION: Declaration = Declaration {
        title: "Split the rows",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/split",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let study = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let figure = self.split.sentence();
        let state = StudyState { split: self.split, ..study.state.clone() };
        enter(scope, &study, state, "Split changed", figure).await
    }
}

/// Balances the training rows.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetBalance {
    /// The study.
    pub study: i64,
    /// How.
    #[schema(value_type = String)]
    pub method: BalanceMethod,
    /// The share of rows with the event that is aimed at, from 0 to 1.
    pub share: f64,
}

impl Action for SetBalance {
    const DECLARATION: Declaration = Declaration {
        title: "Balance the training rows",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/balance",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let study = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let balance = Balance { method: self.method, share: self.share };
        balance.check().map_err(ServiceError::Refused)?;
        let figure = if balance.is_off() {
            "training rows count as they are".to_owned()
        } else {
            format!("to {} of the training rows", percent(balance.share))
        };
        let state = StudyState { balance, ..study.state.clone() };
        enter(scope, &study, state, self.method.description(), figure).await
    }
}

async fn enter(
    scope: &ActionScope<'_>,
    study: &StudyView,
    state: StudyState,
    chosen: &str,
    figure: String,
) -> Result<(), ServiceError> {
    if state == study.state {
        return Ok(());
    }
    check(scope.app, study, &state).await?;
    let choice = Choice { by: scope.by.author(), chosen: chosen.to_owned(), figure };
    choose(scope.begin().await?, &study.study, &state, &choice).await
}

/// Tries whether rows can be split by these choices.
pub(crate) async fn check(app: &App, study: &StudyView, state: &StudyState) -> Result<(), ServiceError> {
    let Some(basis) = state.basis() else {
        return Err(ServiceError::Refused("First set the outcome: choose the outcome on the Prepare page.".into()));
    };
    if state.split == study.state.split {
        return Ok(());
    }
    let kinds = study.table.kinds()?;
    if let Some(unknown) = basis.split.columns().find(|name| kinds.iter().all(|k| k.0 != **name)) {
        return Err(ServiceError::Refused(format!("There is no column “{unknown}” in {}.", study.table.name)));
    }
    let asked = Basis { predictors: Vec::new(), ..basis };
    let names = asked.columns_read(&kinds).map_err(|e| ServiceError::Refused(e.to_string()))?;
    let records = app.store.columns(&study.table, Some(&names)).await?;
    let dealt = tokio::task::spawn_blocking(move || asked.deal(&records)).await;
    dealt
        .map_err(|e| ServiceError::Refused(format!("The rows could not be split: {e}.")))?
        .map_err(ServiceError::Refused)?;
    Ok(())
}
