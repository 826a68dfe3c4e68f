//! A study with everything that is looked at on its way.

use std::sync::Arc;

use pronoia_core::cautions::{self, Caution};
use pronoia_core::decide::Population;
use pronoia_core::study::{Basis, ChosenPolicy, StudyState};
use pronoia_store::candidates::StoredCandidate;
use pronoia_store::driver_analysis::FindingInShort;
use pronoia_store::jobs::Work;
use pronoia_store::ledger::LedgerLine;
use pronoia_store::{job, list, record_table, study};

use crate::error::ServiceError;
use crate::{App, text};

/// What the policy brings.
#[derive(Clone)]
pub struct PolicyProfit {
    /// The amount.
    pub amount: String,
    /// For how many customers.
    pub whom: String,
}

/// A study with everything that its pages look at.
pub struct StudyView {
    /// The study.
    pub study: study::Model,
    /// Its choices.
    pub state: StudyState,
    /// Its table.
    pub table: record_table::Model,
    /// Its candidates.
    pub models: Vec<Arc<StoredCandidate>>,
    /// The policy's model where a newer fit has taken its place.
    retired: Option<StoredCandidate>,
    /// What models are fitted on by the present choices.
    basis: Option<Basis>,
    /// Its lists.
    pub lists: Vec<list::Model>,
    /// How many releases it has.
    pub releases: usize,
    /// What was found to go with its outcome.
    pub finding: Option<FindingInShort>,
    /// What was found of candidates that stand for the present choices.
    of_candidates: Vec<Caution>,
    ledger: Vec<LedgerLine>,
    /// Whether its rows are being looked at, or will be.
    pub looking: bool,
    /// Jobs of its workspace that waited or ran before anything else was read.
    pub jobs: Vec<job::Model>,
}

/// The candidates of a study; of those who were met before, only what was changed is read.
async fn candidates(app: &App, study: i64) -> Result<Vec<Arc<StoredCandidate>>, ServiceError> {
    let known = app.candidates.get(&study);
    let present = app.store.candidates(study, known.as_deref().map_or(&[], Vec::as_slice)).await?;
    app.candidates.put(study, present.clone());
    Ok(present)
}

impl StudyView {
    /// The newest entry of its ledger.
    pub fn newest_entry(&self) -> Option<&LedgerLine> {
        self.ledger.first()
    }

    /// All entries of its ledger, newest first.
    pub fn entries(&self) -> &[LedgerLine] {
        &self.ledger
    }

    /// Looks up a study of a workspace.
    pub async fn load(app: &App, workspace: i64, id: i64) -> Result<Self, ServiceError> {
        // Asked first: work that ends in between has then left what came of it, and the page hears of its end.
        let jobs = app.store.open_jobs(workspace).await?;
        let looking = jobs.iter().any(|job| job.is_to(&Work::Drivers { study: id }));
        let study = app.store.study(workspace, id).await?;
        let state = study.choices()?;
        let models = candidates(app, id).await?;
        let retired = match &state.policy {
            Some(policy) if models.iter().all(|m| m.id != policy.model_id) => {
                Some(app.store.model(policy.model_id).await?.into())
            }
            _ => None,
        };
        let mut of_candidates = Vec::new();
        let basis = state.basis();
        for model in models.iter().filter(|m| m.state == "fitted" && m.fitted_on().ok() == basis.as_ref()) {
            of_candidates.extend_from_slice(model.warned_of()?);
        }
        Ok(Self {
            of_candidates,
            table: app.store.table(workspace, study.records(state.table)).await?,
            state,
            models,
            retired,
            lists: app.store.lists(id).await?,
            releases: app.store.releases(id).await?.len(),
            finding: app.store.finding_in_short(id).await?,
            ledger: app.store.ledger(id).await?,
            looking,
            jobs,
            basis,
            study,
        })
    }

    /// The address of one of its pages.
    pub fn href(&self, stop: &str) -> String {
        format!("/studies/{}/{stop}", self.study.id)
    }

    /// Whether a candidate was fitted on other choices than the present ones, or
    /// a newer fit has taken its place.
    pub fn is_stale(&self, model: &StoredCandidate) -> bool {
        model.retired || model.fitted_on().ok() != self.basis.as_ref()
    }

    /// Candidates that are fitted.
    pub fn fitted(&self) -> impl Iterator<Item = &StoredCandidate> {
        self.models.iter().map(AsRef::as_ref).filter(|m| m.state == "fitted")
    }

    /// The policy's model, if it is there.
    pub fn policy_model(&self) -> Option<(&ChosenPolicy, &StoredCandidate)> {
        let policy = self.state.policy.as_ref()?;
        self.models
            .iter()
            .map(AsRef::as_ref)
            .chain(&self.retired)
            .find(|m| m.id == policy.model_id)
            .map(|m| (policy, m))
    }

    /// What the policy promised when it was chosen.
    pub fn worth(&self) -> Option<PolicyProfit> {
        self.policy_model().and_then(|(chosen, _)| worth_of(chosen))
    }

    /// Whether what was found rests on other choices than the present ones.
    pub fn finding_is_stale(&self) -> bool {
        self.finding.as_ref().is_some_and(|f| Some(&f.basis) != self.state.basis().as_ref())
    }

    /// The candidate with the least log loss among those that are not stale,
    /// or among all if every one is.
    pub fn best(&self) -> Result<Option<&StoredCandidate>, ServiceError> {
        let mut judged = Vec::new();
        for model in self.fitted() {
            if let Some(evaluation) = model.judged()? {
                judged.push((self.is_stale(model), evaluation.log_loss, model));
            }
        }
        judged.sort_by(|a, b| a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)));
        Ok(judged.first().map(|j| j.2))
    }

    /// What was found that would make the answer wrong, and still concerns the
    /// present choices.
    pub fn cautions(&self) -> impl Iterator<Item = &Caution> {
        let found = self.finding.iter().flat_map(|f| &f.survey.cautions).chain(&self.of_candidates);
        found.filter(|caution| caution.concerns(&self.state))
    }

    /// Those of them that nobody decided to live with.
    pub fn open_cautions(&self) -> impl Iterator<Item = &Caution> {
        self.cautions().filter(|caution| caution.kept(&self.state).is_none())
    }

    /// A fitted candidate that is worse than chance, and why it is thought so.
    ///
    /// # Errors
    /// If what is stored cannot be read.
    pub fn worse_than_chance(&self) -> Result<Option<String>, ServiceError> {
        for model in self.fitted().filter(|m| !self.is_stale(m)) {
            if let Some(said) = model.judged()?.and_then(cautions::worse_than_chance) {
                return Ok(Some(format!("{}: {said}", model.name)));
            }
        }
        Ok(None)
    }
}

/// Whether two policies decide alike: by the same rule on the same model, for the same customers.
pub fn decide_alike(one: &ChosenPolicy, other: &ChosenPolicy) -> bool {
    one.model_id == other.model_id && one.policy == other.policy && one.population == other.population
}

/// What a policy promised when it was chosen.
pub fn worth_of(chosen: &ChosenPolicy) -> Option<PolicyProfit> {
    let amount = text::money(chosen.promised?.profit);
    Some(PolicyProfit { amount, whom: whom(&chosen.population, &chosen.currency) })
}

/// What follows an amount of money: what it is counted in, if anybody said, and for how many
/// customers it is.
pub fn whom(population: &Population, currency: &str) -> String {
    let currency = if currency.is_empty() { String::new() } else { format!("{currency} ") };
    match population.customers {
        Some(n) => format!("{currency}for {} customers", text::fixed(n, 0)),
        None => format!("{currency}per {} customers", text::count(1_000)),
    }
}
