//! What is done at Live: policies released.

use pronoia_core::decide::{CutOff, Rule};
use pronoia_core::study::ChosenPolicy;
use pronoia_store::member_role::MemberRole;
use serde::Deserialize;
use utoipa::ToSchema;

use crate::action::{Action, ActionScope, Created, Declaration};
use crate::decide::policy_evaluation::Situation;
use crate::decide::policy_form::TypedFields;
use crate::error::ServiceError;
use crate::study_view::StudyView;

/// The longest name of a release.
pub const LONGEST_NAME: usize = 60;

/// Releases the policy that is kept, under a name.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ReleasePolicy {
    /// The study.
    pub study: i64,
    /// The name, of small letters, digits and hyphens.
    pub name: String,
}

impl Action for ReleasePolicy {
    const DECLARATION: Declaration = Declaration {
        title: "Release the policy",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/releases",
        status: 201,
    };
    type Done = Created;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Created, ServiceError> {
        let name = self.name.trim();
        let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
        if name.is_empty() || name.len() > LONGEST_NAME || !name.chars().all(fits) {
            return Err(ServiceError::Refused(format!(
                "The name stands in an address: up to {LONGEST_NAME} small letters, digits and hyphens, such as renewals-2; it is “{name}”."
            )));
        }
        let view = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let refused = || ServiceError::Refused("Keep a policy at Decide first; it is what is released.".into());
        let kept = view.state.policy.as_ref().ok_or_else(refused)?;
        let situation = Situation::of(scope.app, &view, &TypedFields::default()).await?.ok_or_else(refused)?;
        let app = scope.begin().await?;
        let release = app.store.release(scope.by.workspace, self.study, name, &one_by_one(&situation)).await?;
        let number = app.store.release_versions(release).await?.first().map_or(1, |version| version.number);
        let figure = format!("version {number}, {}", kept.policy.rule.in_short());
        app.store.note(self.study, Some(scope.by.account), &format!("Released as “{name}”"), &figure).await?;
        scope.afterwards(|app| app.release_calls.forget());
        Ok(Created { id: release })
    }
}

/// The policy for customers who come one by one: acting where the line came to stand among those
/// judged, since nobody can be the first hundred of one.
fn one_by_one(situation: &Situation) -> ChosenPolicy {
    let mut chosen = situation.chosen.clone();
    let Rule { by, line, limits, refer_from } = &chosen.policy.rule;
    let line = match line {
        CutOff::Least(least) if limits.is_empty() => CutOff::Least(*least),
        _ => CutOff::Least(situation.line()),
    };
    chosen.policy.rule = Rule { by: *by, line, limits: Vec::new(), refer_from: *refer_from };
    chosen
}
