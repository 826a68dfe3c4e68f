//! What stands around every page: head, route, ledger margin, works line.

use pronoia_core::cautions::Caution;
use pronoia_service::ServiceError;
use pronoia_service::study_view::{PolicyProfit, StudyView};
use pronoia_store::job;
use pronoia_store::member_role::MemberRole;

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

impl Frame {
    /// The frame of a page outside any study.
    pub async fn plain(app: &App, visitor: &Visitor) -> Result<Self, ServiceError> {
        Self::around(app, visitor, app.store.open_jobs(visitor.workspace_id()).await?).await
    }

    async fn around(app: &App, visitor: &Visitor, jobs: Vec<job::Model>) -> Result<Self, ServiceError> {
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
    pub async fn of_study(app: &App, visitor: &Visitor, view: &StudyView, current: u8) -> Result<Self, ServiceError> {
        let mut frame = Self::around(app, visitor, view.jobs.clone()).await?;
        frame.csrf = format!("{}.{}", frame.csrf, view.study.revision);
        frame.study = Some(StudyFrame::of(view, current)?);
        Ok(frame)
    }
}

impl StudyFrame {
    fn of(view: &StudyView, current: u8) -> Result<Self, ServiceError> {
        let fitted = view.fitted().count();
        let stale = view.fitted().any(|m| view.is_stale(m));
        let going_in = view.state.columns.iter().filter(|c| c.goes_in()).count();
        let policy = view.policy_model();
        let policy_stale = policy.is_some_and(|(_, m)| view.is_stale(m));
        let stop = |number, name, page: &str, figure: String, stale| RouteStop {
            number,
            name,
            href: view.href(page),
            figure,
            current: number == current,
            stale,
        };
        let drivers = match &view.finding {
            _ if view.looking => "being analysed".into(),
            Some(finding) => format!("{} strong", finding.strong),
            None => "not analysed".into(),
        };
        let prepare =
            if view.state.outcome.is_none() { "no outcome yet".into() } else { format!("{going_in} predictors") };
        let train = if fitted == 0 { "nothing fitted".into() } else { format!("{fitted} fitted") };
        let compare = match view.best()? {
            Some(best) => best.name.clone(),
            None => "nothing to compare".into(),
        };
        let decide = policy.map_or("no policy yet".into(), |(chosen, _)| chosen.policy.rule.in_short());
        let lists =
            if view.lists.is_empty() { "none yet".into() } else { text::counted(view.lists.len(), "list", "lists") };
        let live = match view.releases {
            0 => "not released".into(),
            n => text::counted(n, "release", "releases"),
        };
        let stops = vec![
            stop(1, "Records", "records", format!("{} rows", text::count_of(view.table.rows)), false),
            stop(2, "Drivers", "drivers", drivers, view.finding_is_stale() && !view.looking),
            stop(3, "Prepare", "prepare", prepare, false),
            stop(4, "Train", "train", train, stale),
            stop(5, "Compare", "compare", compare, stale),
            stop(6, "Decide", "decide", decide, policy_stale),
            stop(7, "Lists", "lists", lists, policy_stale && !view.lists.is_empty()),
            stop(8, "Live", "live", live, policy_stale && view.releases > 0),
        ];
        let newest = view.entries().iter().find(|e| e.can_be_taken_back()).map(|e| e.id);
        let entries = view
            .entries()
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
        Ok(Self {
            id: view.study.id,
            title: view.study.title.clone(),
            stops,
            worth: view.worth(),
            cautions: view.open_cautions().cloned().collect(),
            worse_than_chance: view.worse_than_chance()?,
            entries,
            entered: view.entries().len(),
        })
    }
}

/// A value for the query part of an address.
pub fn encoded(value: &str) -> String {
    let keep = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_' | b'.');
    value.bytes().map(|b| if keep(b) { char::from(b).to_string() } else { format!("%{b:02X}") }).collect()
}
