//! What is done at Decide: policies kept, and what is found out about them.

pub mod policy_evaluation;
pub mod policy_form;

use pronoia_store::jobs::Work;
use pronoia_store::member_role::MemberRole;
use pronoia_store::studies::Choice;
use serde::Deserialize;
use utoipa::ToSchema;

use crate::action::{Action, ActionScope, Declaration, Queued};
use crate::choices::choose;
use crate::error::ServiceError;
use crate::study_view::{StudyView, worth_of};
use crate::train::queue_for_candidate;
use policy_evaluation::Situation;
use policy_form::TypedFields;

/// Keeps a policy; the one that is kept is not entered again.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct KeepPolicy {
    /// The study.
    pub study: i64,
    /// Amounts, cut-offs and limits as they are typed, by the names of their fields; what is absent comes from the policy
    /// that is kept, or from the defaults of the question.
    #[schema(value_type = Object)]
    pub policy: TypedFields,
}

impl Action for KeepPolicy {
    const DECLARATION: Declaration = Declaration {
        title: "Keep a policy",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/policy",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let study = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let situation = Situation::of(scope.app, &study, &self.policy).await?.ok_or_else(|| {
            ServiceError::Refused("No model is fitted yet, so that there is nothing to decide on.".into())
        })?;
        if situation.is_kept() {
            return Ok(());
        }
        let worth = worth_of(&situation.chosen);
        let worth = worth.map_or(String::new(), |worth| format!("{} {}; ", worth.amount, worth.whom));
        let choice = Choice {
            by: scope.by.author(),
            chosen: format!("Cut-off at {}", situation.chosen.policy.rule.in_short()),
            figure: format!("{worth}{}", situation.model.name),
        };
        let mut state = study.state.clone();
        state.policy = Some(situation.chosen);
        choose(scope.begin().await?, &study.study, &state, &choice).await
    }
}

/// Confirms the policy that is kept on the sealed test set.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ConfirmPolicy {
    /// The study.
    pub study: i64,
}

impl Action for ConfirmPolicy {
    const DECLARATION: Declaration = Declaration {
        title: "Confirm the policy on the sealed test set",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/policy/confirm",
        status: 202,
    };
    type Done = Queued;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Queued, ServiceError> {
        let study = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let (policy, _) = study.policy_model().ok_or_else(|| {
            ServiceError::Refused("Keep a policy first; the sealed test confirms a choice that was made.".into())
        })?;
        let work = Work::Confirm { study: study.study.id, model: policy.model_id };
        let of_study = (scope.by.workspace, Some(study.study.id));
        let app = scope.begin().await?;
        Ok(Queued {
            job: app.store.enqueue_once(of_study.0, of_study.1, "Confirming on the sealed test set", &work).await?,
        })
    }
}

/// Computes the permutation importance of a candidate.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ComputeImportance {
    /// The study.
    pub study: i64,
    /// The candidate, which has to be fitted.
    pub candidate: i64,
}

impl Action for ComputeImportance {
    const DECLARATION: Declaration = Declaration {
        title: "Compute the permutation importance of a candidate",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/candidates/{candidate}/importance",
        status: 202,
    };
    type Done = Queued;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Queued, ServiceError> {
        let title = |name: &str| format!("Permutation importance of {name}");
        queue_for_candidate(scope, (self.study, self.candidate), title, Work::Understand { model: self.candidate })
            .await
    }
}
