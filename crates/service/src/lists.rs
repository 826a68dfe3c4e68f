//! What is done at Lists: lists imported and scored.

use pronoia_core::score::{Extras, MOST_REASONS};
use pronoia_store::jobs::{StateChange, Work};
use pronoia_store::list;
use pronoia_store::member_role::MemberRole;
use serde::Deserialize;
use utoipa::ToSchema;

use crate::action::{Action, ActionScope, Declaration, Queued};
use crate::error::ServiceError;

/// Takes a table of Records as a list of a study, to be scored by the policy that is kept.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ImportList {
    /// The study.
    pub study: i64,
    /// The table.
    pub table: i64,
}

impl Action for ImportList {
    const DECLARATION: Declaration = Declaration {
        title: "Import a list",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/lists",
        status: 202,
    };
    type Done = Queued;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Queued, ServiceError> {
        let study = scope.app.store.study(scope.by.workspace, self.study).await?;
        if study.choices()?.policy.is_none() {
            return Err(ServiceError::Refused("A list is scored with a policy. Keep one at Decide first.".into()));
        }
        let table = scope.app.store.table(study.workspace_id, self.table).await?;
        let work = Work::Bring { study: study.id, table: table.id };
        let title = format!("Matching {}", table.name);
        let app = scope.begin().await?;
        Ok(Queued { job: app.store.enqueue_once(study.workspace_id, Some(study.id), &title, &work).await? })
    }
}

/// Scores a list.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ScoreList {
    /// The study.
    pub study: i64,
    /// The list.
    pub list: i64,
    /// What the scored list has besides probability and decision.
    #[schema(value_type = Object)]
    pub extras: Extras,
}

impl Action for ScoreList {
    const DECLARATION: Declaration = Declaration {
        title: "Score a list",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/lists/{list}/score",
        status: 202,
    };
    type Done = Queued;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Queued, ServiceError> {
        let list = find(scope, self.study, self.list).await?;
        let report = list.matched()?;
        if !report.is_complete() {
            return Err(ServiceError::Refused(format!(
                "Columns that the model needs are missing and not mapped: {}. Map them on the page of the list.",
                report.lacking().join(", ")
            )));
        }
        if self.extras.reasons > MOST_REASONS {
            return Err(ServiceError::Refused(format!(
                "Between 0 and {MOST_REASONS} reasons can be written; it is “{}”.",
                self.extras.reasons
            )));
        }
        let (work, change) =
            (Work::Score { list: list.id }, StateChange::ListScoring { list: list.id, extras: &self.extras });
        let of_study = (scope.by.workspace, Some(self.study));
        let app = scope.begin().await?;
        Ok(Queued { job: app.store.change_and_enqueue(of_study, ("Scoring the list", &work), change).await? })
    }
}

/// Publishes a scored list as a table that other programs read.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PublishList {
    /// The study.
    pub study: i64,
    /// The list, which has to be scored.
    pub list: i64,
}

impl Action for PublishList {
    const DECLARATION: Declaration = Declaration {
        title: "Publish a list",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/lists/{list}/publish",
        status: 202,
    };
    type Done = Queued;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Queued, ServiceError> {
        let list = find(scope, self.study, self.list).await?;
        if list.scored_id.is_none() {
            return Err(ServiceError::Refused("The list is not scored yet.".into()));
        }
        let work = Work::Publish { list: list.id };
        let app = scope.begin().await?;
        let of_study = (scope.by.workspace, Some(self.study));
        Ok(Queued { job: app.store.enqueue_once(of_study.0, of_study.1, "Publishing the list", &work).await? })
    }
}

/// A list of a study of the workspace.
async fn find(scope: &ActionScope<'_>, study: i64, id: i64) -> Result<list::Model, ServiceError> {
    let study = scope.app.store.study(scope.by.workspace, study).await?;
    let lists = scope.app.store.lists(study.id).await?;
    lists.into_iter().find(|list| list.id == id).ok_or(ServiceError::NotFound)
}
