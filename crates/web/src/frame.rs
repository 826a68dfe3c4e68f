//! What stands around every page: head, route, ledger margin, works line.

use std::sync::Arc;

use pronoia_core::cautions::{self, Caution};
use pronoia_core::decide::Population;
use pronoia_core::study::{Basis, ChosenPolicy, StudyState};
use pronoia_store::candidates::StoredCandidate;
use pronoia_store::driver_analysis::FindingInShort;
use pronoia_store::jobs::Work;
use pronoia_store::ledger::LedgerLine;
use pronoia_store::member_role::MemberRole;
use pronoia_store::{job, list, record_table, study};

use crate::error::PageError;
use crate::session::Visitor;
use crate::walk::Walk;
use crate::{App, text};

/// Entries of the ledger that stand in the margin.
const IN_MARGIN: usize = 30;

/// Around every page of somebody signed in.
pub struct Frame {
    /// Name of the workspace.
    pub workspace: String,
    /// Whether its records are made up.
    pub made_up: bool,
    /// Who is signed in.
    pub email: String,
    /// What they may do, where that is not everything.
    pub role: Option<&'static str>,
    /// Proof for forms.
    pub csrf: String,
    /// Jobs that wait or run.
    pub jobs: Vec<job::Model>,
    /// Whether they may look only.
    pub only_looks: bool,
    /// A walk through the demonstration, unless it was left.
    pub walk: Option<Walk>,
    /// Present on the pages of a study.
    pub study: Option<StudyFrame>,
}

/// Around the pages of a study.
pub struct StudyFrame {
    /// Key of the study.
    pub id: i64,
    /// The question.
    pub title: String,
    /// The stops of the route.
    pub stops: Vec<RouteStop>,
    /// What the study is worth today.
    pub worth: Option<PolicyProfit>,
    /// What would make the answer wrong, and is neither mended nor kept.
    pub cautions: Vec<Caution>,
    /// A fitted model that is worse than chance, and why it is thought so.
    pub worse_than_chance: Option<String>,
    /// The newest entries of the ledger, newest first.
    pub entries: Vec<MarginEntry>,
    /// How many there are in all.
    pub entered: usize,
}

/// A stop of the route.
pub struct RouteStop {
    /// Its place, and the key that leads there.
    pub number: u8,
    /// Its name.
    pub name: &'static str,
    /// Its address.
    pub href: String,
    /// The live figure below the name.
    pub figure: String,
    /// Whether it is the present page.
    pub current: bool,
    /// Whether something upstream has changed since.
    pub stale: bool,
}

/// What the policy brings.
#[derive(Clone)]
pub struct PolicyProfit {
    /// The amount.
    pub amount: String,
    /// For how many customers.
    pub whom: String,
}

/// A line of the ledger.
pub struct MarginEntry {
    /// Key.
    pub id: i64,
    /// What was chosen.
    pub chosen: String,
    /// The figure that mattered.
    pub figure: String,
    /// When.
    pub when: String,
    /// Whether it was taken back.
    pub taken_back: bool,
    /// Whether it can be taken back now.
    pub can_take_back: bool,
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
    looking: bool,
    /// Jobs of its workspace that waited or ran before anything else was read.
    jobs: Vec<job::Model>,
}

impl Frame {
    /// The frame of a page outside any study.
    pub async fn plain(app: &App, visitor: &Visitor) -> Result<Self, PageError> {
        Self::around(app, visitor, app.store.open_jobs(visitor.workspace_id()).await?).await
    }

    async fn around(app: &App, visitor: &Visitor, jobs: Vec<job::Model>) -> Result<Self, PageError> {
        Ok(Self {
            workspace: visitor.0.workspace.name.clone(),
            made_up: visitor.0.workspace.made_up,
            email: visitor.0.account.email.clone(),
            role: Some(visitor.0.role.word()).filter(|_| !visitor.is_owner()),
            csrf: visitor.0.csrf.clone(),
            jobs,
            only_looks: visitor.0.role == MemberRole::Reader,
            walk: Walk::of(app, visitor).await?,
            study: None,
        })
    }

    /// The frame of a page of a study; `current` is the number of the stop.
    pub async fn of_study(app: &App, visitor: &Visitor, view: &StudyView, current: u8) -> Result<Self, PageError> {
        let mut frame = Self::around(app, visitor, view.jobs.clone()).await?;
        frame.csrf = format!("{}.{}", frame.csrf, view.study.revision);
        frame.study = Some(view.frame(current)?);
        Ok(frame)
    }
}

/// The candidates of a study; of those who were met before, only what was changed is read.
async fn candidates(app: &App, study: i64) -> Result<Vec<Arc<StoredCandidate>>, PageError> {
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
    pub async fn load(app: &App, workspace: i64, id: i64) -> Result<Self, PageError> {
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

    fn frame(&self, current: u8) -> Result<StudyFrame, PageError> {
        let fitted = self.fitted().count();
        let stale = self.fitted().any(|m| self.is_stale(m));
        let going_in = self.state.columns.iter().filter(|c| c.goes_in()).count();
        let policy = self.policy_model();
        let policy_stale = policy.is_some_and(|(_, m)| self.is_stale(m));
        let stop = |number, name, page: &str, figure: String, stale| RouteStop {
            number,
            name,
            href: self.href(page),
            figure,
            current: number == current,
            stale,
        };
        let drivers = match &self.finding {
            _ if self.looking => "being analysed".into(),
            Some(finding) => format!("{} strong", finding.strong),
            None => "not analysed".into(),
        };
        let prepare =
            if self.state.outcome.is_none() { "no outcome yet".into() } else { format!("{going_in} predictors") };
        let train = if fitted == 0 { "nothing fitted".into() } else { format!("{fitted} fitted") };
        let compare = match self.best()? {
            Some(best) => best.name.clone(),
            None => "nothing to compare".into(),
        };
        let decide = policy.map_or("no policy yet".into(), |(chosen, _)| chosen.policy.rule.in_short());
        let lists =
            if self.lists.is_empty() { "none yet".into() } else { text::counted(self.lists.len(), "list", "lists") };
        let live = match self.releases {
            0 => "not released".into(),
            n => text::counted(n, "release", "releases"),
        };
        let stops = vec![
            stop(1, "Records", "records", format!("{} rows", text::count_of(self.table.rows)), false),
            stop(2, "Drivers", "drivers", drivers, self.finding_is_stale() && !self.looking),
            stop(3, "Prepare", "prepare", prepare, false),
            stop(4, "Train", "train", train, stale),
            stop(5, "Compare", "compare", compare, stale),
            stop(6, "Decide", "decide", decide, policy_stale),
            stop(7, "Lists", "lists", lists, policy_stale && !self.lists.is_empty()),
            stop(8, "Live", "live", live, policy_stale && self.releases > 0),
        ];
        let newest = self.ledger.iter().find(|e| e.can_be_taken_back()).map(|e| e.id);
        let entries = self
            .ledger
            .iter()
            .take(IN_MARGIN)
            .map(|e| MarginEntry {
                id: e.id,
                chosen: e.chosen.clone(),
                figure: e.figure.clone(),
                when: text::moment(&e.created_at),
                taken_back: e.taken_back_at.is_some(),
                can_take_back: Some(e.id) == newest,
            })
            .collect();
        Ok(StudyFrame {
            id: self.study.id,
            title: self.study.title.clone(),
            stops,
            worth: self.worth(),
            cautions: self.open_cautions().cloned().collect(),
            worse_than_chance: self.worse_than_chance()?,
            entries,
            entered: self.ledger.len(),
        })
    }

    /// Whether what was found rests on other choices than the present ones.
    pub fn finding_is_stale(&self) -> bool {
        self.finding.as_ref().is_some_and(|f| Some(&f.basis) != self.state.basis().as_ref())
    }

    /// The candidate with the least log loss among those that are not stale,
    /// or among all if every one is.
    pub fn best(&self) -> Result<Option<&StoredCandidate>, PageError> {
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

    fn worse_than_chance(&self) -> Result<Option<String>, PageError> {
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

/// A value for the query part of an address.
pub fn encoded(value: &str) -> String {
    let keep = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_' | b'.');
    value.bytes().map(|b| if keep(b) { char::from(b).to_string() } else { format!("%{b:02X}") }).collect()
}
