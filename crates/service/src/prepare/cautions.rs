//! Cautions, resolved by their remedy or accepted for a reason.

use pronoia_core::cautions::{Caution, Remedy};
use pronoia_core::learn::Settings;
use pronoia_core::model::Recipe;
use pronoia_core::study::{AcceptedCaution, CautionKind, Outcome};
use pronoia_store::member_role::MemberRole;
use pronoia_store::studies::Choice;
use serde::Deserialize;
use utoipa::ToSchema;

use crate::App;
use crate::action::{Action, ActionScope, Declaration};
use crate::choices::choose;
use crate::error::ServiceError;
use crate::prepare::{outcome, split};
use crate::study_view::StudyView;
use crate::train::{fit, refit};

/// The longest reason for accepting a caution, in characters.
const LONGEST_REASON: usize = 300;

/// Resolves a caution by its remedy.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ResolveCaution {
    /// The study.
    pub study: i64,
    /// Which caution.
    pub rule: String,
    /// The column or candidate that it is about.
    pub about: String,
}

impl Action for ResolveCaution {
    const DECLARATION: Declaration = Declaration {
        title: "Resolve a caution",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/cautions/resolve",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let study = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let caution = found(&study, &self.rule, &self.about)?;
        if let (Remedy::OtherEvent { event }, Some(outcome)) = (&caution.remedy, &study.state.outcome) {
            let outcome = Outcome { window: outcome.window.clone(), ..Outcome::is(&outcome.column, event) };
            return outcome::set(scope, study.study.id, outcome).await;
        }
        if matches!(caution.remedy, Remedy::Calibrate | Remedy::FitForest | Remedy::Retire) {
            let app = scope.begin().await?;
            resolve_candidate(app, &study, &caution).await?;
            let by = Some(scope.by.account);
            return Ok(app.store.note(study.study.id, by, &caution.remedy.words(), &caution.heading).await?);
        }
        let mut state = study.state.clone();
        caution.remedy.apply(&mut state);
        split::check(scope.app, &study, &state).await?;
        let chosen = format!("{}: {}", caution.remedy.words(), caution.about);
        let choice = Choice { by: scope.by.author(), chosen, figure: caution.heading.clone() };
        choose(scope.begin().await?, &study.study, &state, &choice).await
    }
}

/// Accepts a caution as it is, for a reason.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AcceptCaution {
    /// The study.
    pub study: i64,
    /// Which caution.
    pub rule: String,
    /// The column or candidate that it is about.
    pub about: String,
    /// Why it is right as it is.
    pub because: String,
}

impl Action for AcceptCaution {
    const DECLARATION: Declaration = Declaration {
        title: "Accept a caution",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/cautions/accept",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let study = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let caution = found(&study, &self.rule, &self.about)?;
        let because = self.because.trim();
        if because.is_empty() || because.chars().count() > LONGEST_REASON {
            return Err(ServiceError::Refused(format!(
                "Give a reason of at most {LONGEST_REASON} letters why it is right as it is; it is entered in the ledger."
            )));
        }
        let mut state = study.state.clone();
        let accepted =
            AcceptedCaution { rule: caution.rule, about: caution.about.clone(), because: because.to_owned() };
        state.kept.push(accepted);
        let chosen = format!("Accepted: {}", lower(&caution.heading));
        let choice = Choice { by: scope.by.author(), chosen, figure: format!("because {because}") };
        choose(scope.begin().await?, &study.study, &state, &choice).await
    }
}

/// The open caution that is asked for.
fn found(study: &StudyView, rule: &str, about: &str) -> Result<Caution, ServiceError> {
    let rule: CautionKind = rule.parse().map_err(ServiceError::Refused)?;
    study.open_cautions().find(|c| c.rule == rule && c.about == about).cloned().ok_or_else(|| {
        ServiceError::Refused(
            "This caution is no longer raised: it was resolved or accepted in the meantime, or the choices changed."
                .into(),
        )
    })
}

/// Resolves what is wrong with a candidate, which is no choice but work.
async fn resolve_candidate(app: &App, study: &StudyView, caution: &Caution) -> Result<(), ServiceError> {
    let model = study.fitted().find(|m| m.name == caution.about).ok_or(ServiceError::NotFound)?;
    match (&caution.remedy, model.recipe()?) {
        (Remedy::Calibrate, Recipe::One(calibrated)) => {
            refit(app, study, model, &Recipe::Calibrated { calibrated }).await.map(drop)
        }
        (Remedy::FitForest, _) => {
            let forest = Settings::of_family("forest").ok_or(ServiceError::NotFound)?;
            fit(app, study, &forest.into()).await.map(drop)
        }
        _ => Ok(app.store.retire_model(model.id).await?),
    }
}

/// A heading within a sentence; names of columns stay as they are written.
fn lower(heading: &str) -> String {
    if heading.starts_with("The ") { heading.replacen("The ", "the ", 1) } else { heading.to_owned() }
}
