//! What is done at Compare: today's rule set, learning curves computed.

use pronoia_core::expression::Expression;
use pronoia_store::jobs::Work;
use pronoia_store::member_role::MemberRole;
use pronoia_store::studies::Choice;
use serde::Deserialize;
use utoipa::ToSchema;

use crate::action::{Action, ActionScope, Declaration, Queued};
use crate::choices::choose;
use crate::error::ServiceError;
use crate::prepare::steps::types_of;
use crate::study_view::StudyView;
use crate::train::queue_for_candidate;

/// The longest rule, in characters.
const LONGEST: usize = 2_000;

/// Sets the rule by which customers are acted on today, and has it evaluated; an empty one is removed.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetTodaysRule {
    /// The study.
    pub study: i64,
    /// A condition in SQL.
    pub condition: String,
}

impl Action for SetTodaysRule {
    const DECLARATION: Declaration = Declaration {
        title: "Set today’s rule",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/rule",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let view = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let condition = self.condition.trim();
        if condition.chars().count() > LONGEST {
            return Err(ServiceError::Refused(format!("A rule has at most {LONGEST} letters.")));
        }
        let wanted = (!condition.is_empty()).then(|| condition.to_owned());
        if wanted.is_some() {
            Expression::check_condition(condition, &types_of(&view)?)
                .map_err(|e| ServiceError::Refused(format!("Today’s rule: {e}")))?;
        }
        let app = scope.begin().await?;
        if wanted != view.state.todays_rule {
            let mut state = view.state.clone();
            state.todays_rule = wanted.clone();
            let (chosen, figure) = match &wanted {
                Some(rule) => ("Today’s rule set", rule.clone()),
                None => ("Today’s rule removed", String::new()),
            };
            let choice = Choice { by: scope.by.author(), chosen: chosen.into(), figure };
            choose(app, &view.study, &state, &choice).await?;
        }
        if wanted.is_some() {
            let work = Work::Rule { study: self.study };
            let of_study = (scope.by.workspace, Some(self.study));
            app.store.enqueue_once(of_study.0, of_study.1, "Evaluating today’s rule", &work).await?;
        }
        Ok(())
    }
}

/// Computes the learning curve of a candidate, and which columns carry it.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ComputeLearningCurve {
    /// The study.
    pub study: i64,
    /// The candidate, which has to be fitted.
    pub candidate: i64,
}

impl Action for ComputeLearningCurve {
    const DECLARATION: Declaration = Declaration {
        title: "Compute the learning curve of a candidate",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/candidates/{candidate}/learning-curve",
        status: 202,
    };
    type Done = Queued;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Queued, ServiceError> {
        let title = |name: &str| format!("Learning curve of {name}");
        queue_for_candidate(scope, (self.study, self.candidate), title, Work::Closer { model: self.candidate }).await
    }
}
