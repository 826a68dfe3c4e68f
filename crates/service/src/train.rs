//! What is done at Train: candidates fitted, fitted again, combined, removed.

use std::collections::BTreeMap;

use pronoia_core::learn::Settings;
use pronoia_core::model::{Ensemble, Mix, Recipe};
use pronoia_core::study::Basis;
use pronoia_core::tune::{TuningMeasure, TuningPlan, TuningRun};
use pronoia_store::candidates::StoredCandidate;
use pronoia_store::fits::NewFit;
use pronoia_store::jobs::Work;
use pronoia_store::member_role::MemberRole;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::action::{Action, ActionScope, Created, Declaration, Queued};
use crate::budget::bytes_needed;
use crate::error::ServiceError;
use crate::study_view::StudyView;
use crate::{App, text};

/// The budget of a search where nothing is said: candidates, and minutes.
pub const BUDGET: (usize, f64) = (40, 10.0);

/// The most of both.
const MOST: (f64, f64) = (1_000.0, 1_440.0);

/// A candidate that waits to be fitted, and its job.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
pub struct QueuedFit {
    /// The candidate.
    pub candidate: i64,
    /// The job that fits it.
    pub job: i64,
}

/// Fits a candidate of a family.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FitCandidate {
    /// The study.
    pub study: i64,
    /// The family.
    pub family: String,
    /// Hyperparameters by name, as they are typed; what is absent has its default.
    #[serde(default)]
    pub settings: BTreeMap<String, String>,
}

impl Action for FitCandidate {
    const DECLARATION: Declaration = Declaration {
        title: "Fit a candidate",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/fits",
        status: 202,
    };
    type Done = QueuedFit;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<QueuedFit, ServiceError> {
        let view = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let mut settings = Settings::of_family(&self.family).ok_or(ServiceError::NotFound)?;
        for (name, value) in &self.settings {
            settings.set(name, value).map_err(|e| ServiceError::Refused(e.to_string()))?;
        }
        fit(scope.begin().await?, &view, &settings.into()).await
    }
}

/// Fits an ensemble of candidates.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FitEnsemble {
    /// The study.
    pub study: i64,
    /// The candidates; their recipes become its members.
    pub candidates: Vec<i64>,
    /// How their predictions are combined.
    pub mix: String,
}

impl Action for FitEnsemble {
    const DECLARATION: Declaration = Declaration {
        title: "Fit an ensemble",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/ensembles",
        status: 202,
    };
    type Done = QueuedFit;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<QueuedFit, ServiceError> {
        let view = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        ready_basis(&view)?;
        let mix: Mix = self.mix.parse().map_err(ServiceError::Refused)?;
        let mut members = Vec::new();
        for id in self.candidates {
            let model = view.fitted().find(|m| m.id == id).ok_or_else(|| {
                ServiceError::Refused(
                    "One of the candidates is gone, or is not fitted. Tick those that are there now.".into(),
                )
            })?;
            if view.is_stale(model) {
                return Err(ServiceError::Refused(format!(
                    "{} is stale. Fit it again, then add it to an ensemble.",
                    model.name
                )));
            }
            members.extend(model.recipe()?.members().iter().cloned());
        }
        let ensemble = Ensemble::new(mix, members).map_err(ServiceError::Refused)?;
        fit(scope.begin().await?, &view, &Recipe::Blend(ensemble)).await
    }
}

/// Fits a candidate that was stopped, failed or is stale again, with the same hyperparameters on the present choices.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RefitCandidate {
    /// The study.
    pub study: i64,
    /// The candidate, which the new one replaces.
    pub candidate: i64,
}

impl Action for RefitCandidate {
    const DECLARATION: Declaration = Declaration {
        title: "Fit a candidate again",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/candidates/{candidate}/refit",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let view = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let model = candidate(&view, self.candidate)?;
        if model.state == "queued" {
            return Ok(());
        }
        refit(scope.begin().await?, &view, model, &model.recipe()?).await.map(drop)
    }
}

/// Removes a candidate from the list; lists and policies that use it keep it.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RemoveCandidate {
    /// The study.
    pub study: i64,
    /// The candidate.
    pub candidate: i64,
}

impl Action for RemoveCandidate {
    const DECLARATION: Declaration = Declaration {
        title: "Remove a candidate",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/candidates/{candidate}/remove",
        status: 204,
    };
    type Done = ();

    async fn perform(self, scope: &ActionScope<'_>) -> Result<(), ServiceError> {
        let view = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let model = candidate(&view, self.candidate)?;
        if model.state == "queued" {
            return Err(ServiceError::Refused(format!("{} is being fitted. Cancel its job first.", model.name)));
        }
        let app = scope.begin().await?;
        app.store.retire_model(model.id).await?;
        let chosen = format!("{} removed from the list", model.name);
        Ok(app.store.note(self.study, Some(scope.by.account), &chosen, "what uses it keeps it").await?)
    }
}

/// Fits a candidate once more on what it was fitted on, to see that it comes out the same.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ProveReproducibility {
    /// The study.
    pub study: i64,
    /// The candidate, which has to be fitted.
    pub candidate: i64,
}

impl Action for ProveReproducibility {
    const DECLARATION: Declaration = Declaration {
        title: "Prove the reproducibility of a candidate",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/candidates/{candidate}/prove",
        status: 202,
    };
    type Done = Queued;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Queued, ServiceError> {
        let title = |name: &str| format!("Refitting {name} to prove reproducibility");
        queue_for_candidate(scope, (self.study, self.candidate), title, Work::Prove { model: self.candidate }).await
    }
}
/// Searches families and hyperparameters for the best candidate.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BeginSearch {
    /// The study.
    pub study: i64,
    /// The families.
    pub families: Vec<String>,
    /// `log-loss`, `area` or `profit`.
    #[serde(default)]
    pub measure: String,
    /// Candidates at most.
    #[serde(default)]
    pub candidates: Option<f64>,
    /// Minutes at most.
    #[serde(default)]
    pub minutes: Option<f64>,
}

impl Action for BeginSearch {
    const DECLARATION: Declaration = Declaration {
        title: "Begin a search",
        role: MemberRole::Analyst,
        path: "/api/v1/studies/{study}/searches",
        status: 201,
    };
    type Done = Created;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Created, ServiceError> {
        let view = StudyView::load(scope.app, scope.by.workspace, self.study).await?;
        let basis = ready_basis(&view)?;
        let within = |asked: Option<f64>, label: &str, (usual, most): (f64, f64)| {
            let asked = asked.unwrap_or(usual);
            if asked > 0.0 && asked <= most {
                return Ok(asked);
            }
            Err(ServiceError::Refused(format!(
                "{label} must be above 0 and at most {}; it is {asked}.",
                text::fixed(most, 0)
            )))
        };
        let measure = match (self.measure.as_str(), &view.state.policy) {
            ("area", _) => TuningMeasure::Area,
            ("profit", Some(chosen)) => TuningMeasure::Profit(chosen.policy.economics.typical().payoffs().gain()),
            ("profit", None) => {
                return Err(ServiceError::Refused(
                    "No amounts yet. Give at Decide what acting earns and costs.".into(),
                ));
            }
            _ => TuningMeasure::LogLoss,
        };
        let plan = TuningPlan {
            families: self.families,
            measure,
            most: within(self.candidates, "Candidates at most", (BUDGET.0 as f64, MOST.0))?.ceil() as usize,
            minutes: Some(within(self.minutes, "Minutes at most", (BUDGET.1, MOST.1))?),
            seed: view.state.split.seed,
        };
        let search = TuningRun::new(plan).map_err(ServiceError::Refused)?;
        let app = scope.begin().await?;
        Ok(Created { id: app.store.queue_search(&view.study, &search, &basis).await? })
    }
}

/// A candidate on the list of a study.
fn candidate(view: &StudyView, id: i64) -> Result<&StoredCandidate, ServiceError> {
    view.models.iter().map(AsRef::as_ref).find(|m| m.id == id).ok_or(ServiceError::NotFound)
}

/// Puts work for a fitted candidate in the queue; `title` is told its name.
pub(crate) async fn queue_for_candidate(
    scope: &ActionScope<'_>,
    (study, candidate): (i64, i64),
    title: impl FnOnce(&str) -> String + Send,
    work: Work,
) -> Result<Queued, ServiceError> {
    let view = StudyView::load(scope.app, scope.by.workspace, study).await?;
    let model = view.fitted().find(|m| m.id == candidate).ok_or(ServiceError::NotFound)?;
    let title = title(&model.name.to_lowercase());
    let app = scope.begin().await?;
    Ok(Queued { job: app.store.enqueue_once(scope.by.workspace, Some(study), &title, &work).await? })
}

/// What a candidate would be fitted on now; better refused here than by the job.
///
/// # Errors
/// [`ServiceError::Refused`] if there is no outcome, no predictor, or a step that cannot be applied.
pub fn ready_basis(view: &StudyView) -> Result<Basis, ServiceError> {
    let basis = view.state.basis().ok_or_else(|| ServiceError::Refused("First set the outcome, at Prepare.".into()))?;
    if basis.predictors.is_empty() {
        return Err(ServiceError::Refused(
            "There are no predictors. Give at least one column the role “predictor”, at Prepare.".into(),
        ));
    }
    basis.columns_read(&view.table.kinds()?).map_err(|e| ServiceError::Refused(e.to_string()))?;
    Ok(basis)
}

/// Puts a candidate in the queue, within the transaction of an action.
pub(crate) async fn fit(app: &App, view: &StudyView, recipe: &Recipe) -> Result<QueuedFit, ServiceError> {
    queue_fit(app, view, (recipe.name(), recipe), None).await
}

/// Fits a candidate in another's place, by a recipe of its own, within the transaction of an action.
pub(crate) async fn refit(
    app: &App,
    view: &StudyView,
    model: &StoredCandidate,
    recipe: &Recipe,
) -> Result<QueuedFit, ServiceError> {
    queue_fit(app, view, (&model.name, recipe), Some(model.id)).await
}

/// Refused here rather than by the job if there will never be memory for the fit.
async fn queue_fit(
    app: &App,
    view: &StudyView,
    (name, recipe): (&str, &Recipe),
    instead_of: Option<i64>,
) -> Result<QueuedFit, ServiceError> {
    let basis = ready_basis(view)?;
    app.memory.check(bytes_needed(&view.table, &basis, recipe)?).map_err(ServiceError::Refused)?;
    let fit = NewFit { name, recipe, basis: &basis, seed: view.state.split.seed };
    let (candidate, job) = app.store.queue_fit(&view.study, &fit, instead_of).await?;
    Ok(QueuedFit { candidate, job })
}
