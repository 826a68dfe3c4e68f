//! Campaigns: a scored list acted on, with some held back, and what came of it.

pub(crate) mod results;

use actix_web::web;
use askama::Template;
use pronoia_core::Table;
use pronoia_core::campaign::{Arms, CampaignOutcome, Power, control_needed};
use pronoia_core::question::Question;
use pronoia_core::sentence::capital;
use pronoia_core::write::FileFormat;
use pronoia_service::ServiceError;
use pronoia_service::jobs::campaign::{ARM, CONTROL};
use pronoia_service::scored_list::{ADDED, mean_of_acted};
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use pronoia_store::jobs::{ResultsFrom, Work};
use pronoia_store::{StoreError, campaign, list, record_table};
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::file_download::Taking;
use crate::frame::Frame;
use crate::pages::lists::list::{ListPath, find};
use crate::pages::{PageResult, is_asked, see_other};
use crate::session::Visitor;
use results::CameOfIt;

/// The most acts of a campaign.
const MOST_ACTS: usize = 6;

/// What a campaign of a scored list may be.
pub struct CampaignProposal {
    pub customers: u64,
    /// How many are proposed to be held back.
    pub control: u64,
    /// Why so many.
    pub why: String,
    pub act: &'static str,
    /// The campaigns that there are of it.
    pub campaigns: Vec<(String, String, String)>,
}

impl CampaignProposal {
    pub async fn of(
        app: &App,
        view: &StudyView,
        list: &list::Model,
        table: &record_table::Model,
    ) -> Result<Self, ServiceError> {
        let customers = list.acted.unwrap_or(0).unsigned_abs();
        let mean = mean_of_acted(app, table).await?;
        let economics = list.decided_by()?.policy.economics.typical();
        let rates = mean.and_then(|p| economics.rates(p));
        let question = view.study.kind();
        let (control, why) = match rates {
            None => (
                customers / 5,
                "No effect on the event rate is assumed, so that no sample size follows from it; a fifth is usual."
                    .into(),
            ),
            Some(rates) => {
                let needed = control_needed(customers, rates);
                (needed.control, why(&needed, rates, question))
            }
        };
        let all = app.store.campaigns(view.study.id).await?.into_iter().filter(|c| c.list_id == list.id);
        let campaigns =
            all.map(|c| (view.href(&format!("campaigns/{}", c.id)), c.name, text::moment(&c.created_at))).collect();
        let act = match question {
            Question::Churn => "offer",
            Question::Credit => "decline",
            Question::Response => "contact",
            Question::Other => "act",
        };
        Ok(Self { customers, control, why, act, campaigns })
    }
}

fn why(power: &Power, [without, with]: [f64; 2], question: Question) -> String {
    let assumed = format!(
        "Assumed: {} of 100 of them {} without it, and {} with it.",
        text::fixed(without * 100.0, 1),
        question.event_would(),
        text::fixed(with * 100.0, 1)
    );
    if power.is_enough() {
        format!(
            "{assumed} A control group of {} shows that with 80 % statistical power at the 5 % level.",
            text::count(power.control)
        )
    } else {
        format!(
            "{assumed} They are few: even with half of them in the control group the statistical power is {} % at the 5 % level.",
            text::fixed(power.power * 100.0, 0)
        )
    }
}

/// What a campaign is to be.
#[derive(Deserialize)]
pub struct NewCampaign {
    csrf: String,
    name: String,
    control: String,
    acts: String,
    seed: String,
}

impl NewCampaign {
    fn arms(&self, customers: u64) -> Result<(String, Arms), ServiceError> {
        let refused = |sentence: String| Err(ServiceError::Refused(sentence));
        let name = self.name.trim();
        if name.is_empty() || name.chars().count() > 80 {
            return refused("Give the campaign a name of up to 80 letters.".into());
        }
        let whole = |text: &str| text.chars().filter(|c| !c.is_whitespace()).collect::<String>().parse::<u64>().ok();
        let Some(control) = whole(&self.control).filter(|control| *control < customers) else {
            return refused(format!(
                "The control group has 0 to {} customers; it is “{}”.",
                text::count(customers.saturating_sub(1)),
                self.control
            ));
        };
        let Some(seed) = whole(&self.seed) else {
            return refused(format!("The random seed is a whole number; it is “{}”.", self.seed));
        };
        let acts: Vec<String> =
            self.acts.split(',').map(|act| act.trim().to_owned()).filter(|act| !act.is_empty()).collect();
        if acts.is_empty() || acts.len() > MOST_ACTS {
            return refused(format!("Name one to {MOST_ACTS} treatments, separated by commas."));
        }
        for (at, act) in acts.iter().enumerate() {
            if act == CONTROL || acts[..at].contains(act) || act.chars().count() > 40 {
                return refused(format!(
                    "“{act}” is not a distinct name; give each treatment a name of its own, of up to 40 letters."
                ));
            }
        }
        Ok((name.to_owned(), Arms { control: control as f64 / customers as f64, acts, seed }))
    }
}

/// Begins a campaign.
pub async fn begin(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ListPath>,
    form: web::Form<NewCampaign>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let (view, list) = find(&app, &visitor, (path.id, path.list)).await?;
    let customers = match (list.scored_id, list.acted) {
        (Some(_), Some(acted)) if acted > 1 => acted.unsigned_abs(),
        _ => {
            return Err(
                ServiceError::Refused("The list is not scored, or nobody on it is to be acted on.".into()).into()
            );
        }
    };
    let (name, arms) = form.arms(customers)?;
    let (_, job) = app.store.queue_campaign(&view.study, list.id, &name, &arms).await?;
    see_other(&format!("/jobs/{job}"))
}

/// The keys in the address of a campaign.
#[derive(Deserialize)]
pub struct CampaignPath {
    id: i64,
    campaign: i64,
}

/// The table that results are to be read from.
#[derive(Default, Deserialize)]
pub struct ResultsQuery {
    from: Option<i64>,
}

#[derive(Template)]
#[template(path = "lists/campaign.html")]
struct CampaignPage {
    frame: Frame,
    base: String,
    list: (String, String),
    name: String,
    heading: String,
    /// How the lots were drawn.
    how: String,
    drawn: bool,
    working: bool,
    forms: Vec<(&'static str, &'static str)>,
    /// Tables that may say what happened, and whether it is the one asked for.
    tables: Vec<(i64, String, bool)>,
    reading: Option<Reading>,
    came_of_it: Option<CameOfIt>,
}

/// What a table may say.
struct Reading {
    table: i64,
    name: String,
    /// Columns of the campaign, and those of the table; whether each is the one proposed.
    own: Vec<(String, bool)>,
    columns: Vec<(String, bool)>,
    /// Column and value of the event.
    events: Vec<(String, String)>,
}

async fn found(
    app: &App,
    visitor: &Visitor,
    path: &CampaignPath,
) -> Result<(StudyView, campaign::Model), ServiceError> {
    let view = StudyView::load(app, visitor.workspace_id(), path.id).await?;
    match app.store.campaign(path.campaign).await {
        Ok(campaign) if campaign.study_id == view.study.id => Ok((view, campaign)),
        Ok(_) | Err(StoreError::NotFound(_)) => Err(ServiceError::NotFound),
        Err(other) => Err(other.into()),
    }
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<CampaignPath>,
    asked: web::Query<ResultsQuery>,
) -> PageResult {
    let (view, campaign) = found(&app, &visitor, &path).await?;
    let list = app.store.list(campaign.list_id).await?;
    let source = app.store.table(visitor.workspace_id(), list.table_id).await?;
    let chosen = list.decided_by()?;
    let arms = campaign.drawn()?;
    let came_of_it = match campaign.outcome.clone() {
        None => None,
        Some(value) => {
            let outcome: CampaignOutcome = serde_json::from_value(value).map_err(StoreError::from)?;
            Some(CameOfIt::of(outcome, &campaign, &arms, &chosen, &view))
        }
    };
    let reading = match (asked.from, campaign.assigned_id) {
        (Some(from), Some(assigned)) => {
            let assigned = app.store.table(visitor.workspace_id(), assigned).await?;
            let table = app.store.table(visitor.workspace_id(), from).await?;
            Some(Reading::of(&assigned, &table)?)
        }
        _ => None,
    };
    let tables = app.store.tables(visitor.workspace_id()).await?.into_iter();
    let base = view.href(&format!("campaigns/{}", campaign.id));
    let working = is_asked(&app, &view.study, &Work::Draw { campaign: campaign.id }).await?;
    let act = view.study.kind().act();
    html(&CampaignPage {
        frame: Frame::of_study(&app, &visitor, &view, 7).await?,
        list: (format!("{}/{}", view.href("lists"), list.id), source.name),
        heading: match (&came_of_it, campaign.acted, campaign.held) {
            (Some(came), ..) => came.heading.clone(),
            (None, Some(acted), Some(0)) => {
                format!("{} {} customers; no control group.", capital(act), text::count_of(acted))
            }
            (None, Some(acted), Some(held)) => {
                format!(
                    "{} {} customers; control group of {}.",
                    capital(act),
                    text::count_of(acted),
                    text::count_of(held)
                )
            }
            _ => "The customers are not randomised yet.".into(),
        },
        how: format!(
            "{}, stratified by predicted probability; random seed {}{}.",
            if arms.control > 0.0 {
                format!("Control group of {}, randomised", text::percent(arms.control))
            } else {
                "No control group".into()
            },
            arms.seed,
            match arms.acts.as_slice() {
                [_] => String::new(),
                acts => format!("; the others are randomised to {}", text::listed(acts)),
            }
        ),
        drawn: campaign.assigned_id.is_some(),
        name: campaign.name,
        working,
        forms: FileFormat::ALL.map(|form| (form.extension(), form.name())).to_vec(),
        tables: tables
            .map(|t| (t.id, format!("{}, {} rows", t.name, text::count_of(t.rows)), asked.from == Some(t.id)))
            .collect(),
        reading,
        came_of_it,
        base,
    })
}

impl Reading {
    fn of(assigned: &record_table::Model, table: &record_table::Model) -> Result<Self, ServiceError> {
        let own: Vec<String> = assigned.names()?.into_iter().filter(|name| !name.starts_with(ADDED)).collect();
        let columns = table.names()?;
        let shared = own.iter().find(|name| columns.contains(name)).cloned();
        let figures = table.figures()?;
        // Values of columns with few of them.
        let events = columns.iter().filter(|name| Some(*name) != shared.as_ref()).filter_map(|name| {
            let column = figures.column(name).filter(|c| c.distinct <= 12 && c.numbers.is_none())?;
            Some(column.top.iter().map(|(value, _)| (name.clone(), value.clone())).collect::<Vec<_>>())
        });
        let marked = |names: Vec<String>| -> Vec<(String, bool)> {
            names
                .into_iter()
                .map(|name| (Some(&name) == shared.as_ref(), name))
                .map(|(here, name)| (name, here))
                .collect()
        };
        Ok(Self {
            table: table.id,
            name: table.name.clone(),
            events: events.flatten().collect(),
            own: marked(own),
            columns: marked(columns),
        })
    }
}

/// Where it stands what happened.
#[derive(Deserialize)]
pub struct ResultsForm {
    csrf: String,
    table: i64,
    own_key: String,
    key: String,
    /// Column and value, with a line break between them.
    event: String,
    money: String,
    absent: String,
}

/// Has what happened read, and the groups compared.
pub async fn results(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<CampaignPath>,
    form: web::Form<ResultsForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let (view, campaign) = found(&app, &visitor, &path).await?;
    let table = app.store.table(visitor.workspace_id(), form.table).await?;
    let columns = table.names()?;
    let Some((outcome, event)) = form.event.split_once('\n') else {
        return Err(ServiceError::Refused("Choose the outcome column and the value of the event.".into()).into());
    };
    let (outcome, event) = (outcome.trim_end_matches('\r').to_owned(), event.to_owned());
    let money = Some(form.money.clone()).filter(|name| !name.is_empty());
    for name in [Some(&form.key), Some(&outcome), money.as_ref()].into_iter().flatten() {
        if !columns.contains(name) {
            return Err(ServiceError::Refused(format!("{} has no column “{name}”.", table.name)).into());
        }
    }
    let from = ResultsFrom {
        table: table.id,
        keys: [form.own_key.clone(), form.key.clone()],
        outcome,
        event,
        money,
        absent_had_none: form.absent == "none",
    };
    let work = Work::Results { campaign: campaign.id, from };
    let job =
        app.store.enqueue_once(visitor.workspace_id(), Some(view.study.id), "Comparing the groups", &work).await?;
    see_other(&format!("/jobs/{job}"))
}

/// The keys in the address of a contact file.
#[derive(Deserialize)]
pub struct ContactPath {
    id: i64,
    campaign: i64,
    form: String,
}

/// Those who are acted on, with what is done; those held back are not in it.
pub async fn contacts(app: web::Data<App>, visitor: Visitor, path: web::Path<ContactPath>) -> PageResult {
    let form = FileFormat::of_extension(&path.form).ok_or(ServiceError::NotFound)?;
    let at = CampaignPath { id: path.id, campaign: path.campaign };
    let (_, campaign) = found(&app, &visitor, &at).await?;
    let assigned =
        campaign.assigned_id.ok_or_else(|| ServiceError::Refused("The customers are not randomised yet.".into()))?;
    let table = app.store.table(visitor.workspace_id(), assigned).await?;
    let columns = table.names()?;
    let rows = campaign.acted.unwrap_or(table.rows) as u64;
    // By the treatments, since the word for the control group has changed since 0.1.0.
    let acts = campaign.drawn()?.acts;
    let acted = move |part: &Table, row: usize| {
        part.column(ARM).and_then(|arm| arm.text(row)).is_some_and(|arm| acts.contains(&arm))
    };
    let taking = Taking { table: &table, columns, also: vec![ARM.into()], rows, keep: Some(Box::new(acted)) };
    Ok(taking.sent(&app, "contacts", form).await?)
}
