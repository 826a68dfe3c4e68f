//! Decide: what acting is worth, for how many, and on whom.

pub mod sensitivity;

use actix_web::{HttpResponse, web};
use askama::Template;
use pronoia_core::decide::{Best, ChurnAmounts, Economics, PlainAmounts, Policy, ProfitPoint, Ranking, Thousand};
use pronoia_core::study::{ChosenPolicy, Question};
use pronoia_store::jobs::Work;
use pronoia_store::model;
use pronoia_store::studies::Choice;
use serde::{Deserialize, Serialize};

use super::{PageResult, Signed, StudyPath, once_each, see_other};
use crate::App;
use crate::error::{PageError, html};
use crate::frame::{Frame, StudyView, whom, worth_of};
use crate::session::Visitor;
use crate::text;
use crate::work::Confirmation;
use sensitivity::Assumptions;

/// Amounts as typed; what is absent comes from the policy kept, or from sound beginnings.
#[derive(Debug, Clone, Default, Deserialize)]
pub struct Typed {
    model: Option<i64>,
    value_kept: Option<f64>,
    save_rate: Option<f64>,
    offer_cost: Option<f64>,
    stayers_take: Option<f64>,
    contact_cost: Option<f64>,
    act_event: Option<f64>,
    act_other: Option<f64>,
    leave_event: Option<f64>,
    leave_other: Option<f64>,
    population: Option<String>,
    line: Option<f64>,
    line_as: Option<String>,
}

#[derive(Template)]
#[template(path = "decide.html")]
struct Page {
    frame: Frame,
    base: String,
    train: String,
    question: Question,
    view: Option<View>,
    confirmed: Option<Confirmed>,
    policy_kept: bool,
    policy_stale: bool,
    /// What the customers are called that the policy was chosen on.
    judged_on: &'static str,
    test_openings: i32,
}

/// Everything the page shows about one model under one set of amounts.
struct View {
    model_id: i64,
    models: Vec<(i64, String)>,
    churn: Option<ChurnAmounts>,
    plain: Option<PlainAmounts>,
    population: String,
    whom: String,
    here: Here,
    data: String,
    judged: String,
    unsaved: bool,
    table: Vec<[String; 5]>,
    assumptions: Assumptions,
}

/// The figures at the line, written out.
struct Here {
    acted: String,
    share: String,
    cut_off: String,
    events: String,
    missed: String,
    profit: String,
    low: String,
    high: String,
    per_hundred: String,
    found_per_hundred: String,
    act_event: String,
    act_other: String,
    break_even: Option<String>,
    behind: String,
}

struct Confirmed {
    found: Confirmation,
    is_this_policy: bool,
}

/// What the script draws.
#[derive(Serialize)]
struct Data<'a> {
    marks: Vec<Vec<u8>>,
    points: Vec<[f64; 7]>,
    at: usize,
    best: usize,
    from: usize,
    to: usize,
    rows: u64,
    events: u64,
    population: f64,
    act_event: f64,
    act_other: f64,
    break_even: Option<f64>,
    left: &'a str,
    stayed: &'a str,
    act: &'a str,
    whom: String,
}

/// A model, its ranking and what was chosen about it.
struct Situation<'a> {
    view: &'a StudyView,
    model: &'a model::Model,
    ranking: Ranking,
    chosen: ChosenPolicy,
    curve: Vec<ProfitPoint>,
    best: Best,
    position: usize,
}

impl<'a> Situation<'a> {
    /// Puts together what was typed, what was kept, and what is usual.
    fn of(view: &'a StudyView, typed: &Typed) -> Result<Option<Self>, PageError> {
        let kept = view.state.policy.as_ref();
        let wanted = typed.model.or(kept.map(|p| p.model_id)).or(view.best()?.map(|m| m.id));
        let model = match view.fitted().find(|m| Some(m.id) == wanted) {
            Some(model) => model,
            None => match view.best()? {
                Some(model) => model,
                None => return Ok(None),
            },
        };
        let Some(ranking) = model.ranked()? else { return Ok(None) };
        let economics = economics(view.study.kind(), kept.map(|p| &p.policy.economics), typed);
        economics.check().map_err(|e| PageError::Refused(e.to_string()))?;
        let population = match typed.population.as_deref().map(str::trim) {
            None => kept.and_then(|p| p.population),
            Some("") => None,
            Some(text) => Some(population(text)?),
        };
        let curve = ranking.profit(&economics.prices(), population.unwrap_or(1_000.0));
        let best = Best::of(&curve);
        let kept_line = kept.filter(|p| p.model_id == model.id).map(|p| ranking.position_of(p.policy.cut_off));
        let position = match typed.line {
            Some(line) => position(&ranking, &curve, line, typed.line_as.as_deref())?,
            None => kept_line.unwrap_or(best.at),
        };
        let cut_off = match (typed.line, typed.line_as.as_deref()) {
            (Some(line), Some("probability")) => line,
            (None, _) if kept_line.is_some() => kept.map_or(0.5, |p| p.policy.cut_off),
            _ => curve[position].cut_off,
        };
        let chosen = ChosenPolicy { model_id: model.id, policy: Policy { economics, cut_off }, population };
        Ok(Some(Self { view, model, ranking, chosen, curve, best, position }))
    }

    fn data(&self) -> Result<String, PageError> {
        let prices = self.chosen.policy.economics.prices();
        let question = self.view.study.kind();
        let data = Data {
            marks: Thousand::of(&self.ranking).marks.iter().map(|c| c.iter().map(|&m| u8::from(m)).collect()).collect(),
            points: self
                .curve
                .iter()
                .map(|p| [p.share, p.cut_off.min(1.0), p.acted, p.events, p.profit, p.low, p.high])
                .collect(),
            at: self.position,
            best: self.best.at,
            from: self.best.from,
            to: self.best.to,
            rows: self.ranking.rows,
            events: self.ranking.events,
            population: self.chosen.population.unwrap_or(1_000.0),
            act_event: prices.act_event,
            act_other: prices.act_other,
            break_even: prices.break_even(),
            left: question.event_verb(),
            stayed: question.other_verb(),
            act: question.act(),
            whom: whom(self.chosen.population),
        };
        serde_json::to_string(&data).map_err(|e| PageError::Refused(e.to_string()))
    }

    fn here(&self) -> Here {
        let p = self.curve[self.position];
        let best = self.curve[self.best.at];
        let counts = self.ranking.confusion(self.position);
        let prices = self.chosen.policy.economics.prices();
        let scale = self.chosen.population.unwrap_or(1_000.0) / self.ranking.rows as f64;
        Here {
            acted: text::fixed(p.acted, 0),
            share: text::percent(p.share),
            cut_off: text::fixed(self.chosen.policy.cut_off.min(1.0), 3),
            events: text::fixed(p.events, 0),
            missed: text::fixed(counts.missed as f64 * scale, 0),
            profit: text::money(p.profit),
            low: text::money(p.low),
            high: text::money(p.high),
            per_hundred: text::fixed(counts.precision() * 100.0, 0),
            found_per_hundred: text::fixed(counts.recall() * 100.0, 0),
            act_event: signed(prices.act_event),
            act_other: signed(prices.act_other),
            break_even: prices.break_even().map(|p| text::fixed(p, 3)),
            behind: behind(best.profit - p.profit),
        }
    }

    fn view(&self) -> Result<View, PageError> {
        let (churn, plain) = match &self.chosen.policy.economics {
            Economics::Churn(a) => (Some(*a), None),
            Economics::Plain(a) => (None, Some(*a)),
        };
        let question = self.view.study.kind();
        let rows = (0..=20).map(|i| self.curve[i * (self.curve.len() - 1) / 20]).map(|p| {
            [
                text::percent(p.share),
                text::fixed(p.cut_off.min(1.0), 3),
                text::fixed(p.acted, 0),
                text::fixed(p.events, 0),
                format!("{} ({} – {})", text::money(p.profit), text::money(p.low), text::money(p.high)),
            ]
        });
        Ok(View {
            model_id: self.model.id,
            models: self.view.fitted().map(|m| (m.id, m.name.clone())).collect(),
            churn,
            plain,
            population: self.chosen.population.map_or(String::new(), |p| text::fixed(p, 0)),
            whom: whom(self.chosen.population),
            here: self.here(),
            data: self.data()?,
            judged: format!(
                "Judged on {} {} customers, {} of whom {}. The band is where 90 of 100 resamples of them lie.{}",
                text::count(self.ranking.rows),
                self.model.fitted_on()?.split.judged_on(),
                text::count(self.ranking.events),
                question.event_verb(),
                once_each(&self.view.state)
            ),
            unsaved: self.view.state.policy.as_ref() != Some(&self.chosen),
            table: rows.collect(),
            assumptions: Assumptions::of(self),
        })
    }
}

fn economics(question: Question, kept: Option<&Economics>, typed: &Typed) -> Economics {
    if question == Question::Churn {
        let kept = match kept {
            Some(Economics::Churn(a)) => *a,
            _ => ChurnAmounts {
                value_kept: 150.0,
                save_rate: 0.25,
                offer_cost: 25.0,
                stayers_take: 0.3,
                contact_cost: 2.0,
            },
        };
        let share = |typed: Option<f64>, kept: f64| typed.map_or(kept, |p| p / 100.0);
        return Economics::Churn(ChurnAmounts {
            value_kept: typed.value_kept.unwrap_or(kept.value_kept),
            save_rate: share(typed.save_rate, kept.save_rate),
            offer_cost: typed.offer_cost.unwrap_or(kept.offer_cost),
            stayers_take: share(typed.stayers_take, kept.stayers_take),
            contact_cost: typed.contact_cost.unwrap_or(kept.contact_cost),
        });
    }
    let kept = match kept {
        Some(Economics::Plain(a)) => *a,
        _ => PlainAmounts { act_event: 20.0, act_other: -2.0, leave_event: 0.0, leave_other: 0.0 },
    };
    Economics::Plain(PlainAmounts {
        act_event: typed.act_event.unwrap_or(kept.act_event),
        act_other: typed.act_other.unwrap_or(kept.act_other),
        leave_event: typed.leave_event.unwrap_or(kept.leave_event),
        leave_other: typed.leave_other.unwrap_or(kept.leave_other),
    })
}

fn population(text: &str) -> Result<f64, PageError> {
    let figures: String = text.chars().filter(|c| !c.is_whitespace() && *c != pronoia_core::number::THIN).collect();
    figures.parse::<f64>().ok().filter(|n| *n >= 1.0 && *n <= 1e10).ok_or_else(|| {
        PageError::Refused(format!(
            "“{text}” is not a number of customers. Write a whole number of 1 or more, or leave it empty."
        ))
    })
}

/// Where a line lies that was typed as a probability, a share or a count.
fn position(ranking: &Ranking, curve: &[ProfitPoint], line: f64, line_as: Option<&str>) -> Result<usize, PageError> {
    let last_within = |value: fn(&ProfitPoint) -> f64, limit: f64| {
        curve.partition_point(|p| value(p) <= limit * (1.0 + 1e-9)).saturating_sub(1)
    };
    match line_as {
        Some("share") if (0.0..=100.0).contains(&line) => Ok(last_within(|p| p.share, line / 100.0)),
        Some("share") => Err(PageError::Refused(format!("A share is between 0 and 100 %; it is {line}."))),
        Some("count") if line >= 0.0 => Ok(last_within(|p| p.acted, line)),
        Some("count") => Err(PageError::Refused(format!("A number of customers is 0 or more; it is {line}."))),
        _ if (0.0..=1.0).contains(&line) => Ok(ranking.position_of(line)),
        _ => Err(PageError::Refused(format!("A probability is between 0 and 1; it is {line}."))),
    }
}

/// How far a point is from the best, in words.
fn behind(difference: f64) -> String {
    if difference < 0.005 { "the best point".into() } else { format!("{} under the best", text::money(difference)) }
}

fn signed(x: f64) -> String {
    let text = text::fixed(x, 2);
    if x > 0.0 { format!("+{text}") } else { text }
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    typed: web::Query<Typed>,
) -> PageResult {
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let situation = Situation::of(&study, &typed)?;
    let confirmed = match study.study.confirmation.clone() {
        Some(value) => {
            let found: Confirmation = serde_json::from_value(value).map_err(pronoia_store::StoreError::from)?;
            let same = |p: &ChosenPolicy| p.model_id == found.model_id && p.policy.cut_off == found.cut_off;
            Some(Confirmed { is_this_policy: study.state.policy.as_ref().is_some_and(same), found })
        }
        None => None,
    };
    let page = Page {
        frame: Frame::of_study(&app, &visitor, &study, 6).await?,
        base: study.href("decide"),
        train: study.href("train"),
        question: study.study.kind(),
        view: situation.as_ref().map(Situation::view).transpose()?,
        confirmed,
        policy_kept: study.state.policy.is_some(),
        policy_stale: study.policy_model().is_some_and(|(_, m)| study.is_stale(m)),
        judged_on: study.state.split.judged_on(),
        test_openings: study.study.test_openings,
    };
    html(&page)
}

/// What the script draws, for amounts that were just typed.
pub async fn curve(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    typed: web::Query<Typed>,
) -> PageResult {
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let situation = Situation::of(&study, &typed)?.ok_or(PageError::NotFound)?;
    Ok(HttpResponse::Ok().content_type("application/json").body(situation.data()?))
}

/// A policy as typed, signed.
#[derive(Deserialize)]
pub struct Keep {
    csrf: String,
    #[serde(flatten)]
    typed: std::collections::BTreeMap<String, String>,
}

impl Keep {
    fn typed(&self) -> Result<Typed, PageError> {
        let number = |name: &str| -> Result<Option<f64>, PageError> {
            match self.typed.get(name).map(|v| v.trim()) {
                None | Some("") => Ok(None),
                Some(v) => v.parse().map(Some).map_err(|_| PageError::Refused(format!("“{v}” is not a number."))),
            }
        };
        Ok(Typed {
            model: number("model")?.map(|m| m as i64),
            value_kept: number("value_kept")?,
            save_rate: number("save_rate")?,
            offer_cost: number("offer_cost")?,
            stayers_take: number("stayers_take")?,
            contact_cost: number("contact_cost")?,
            act_event: number("act_event")?,
            act_other: number("act_other")?,
            leave_event: number("leave_event")?,
            leave_other: number("leave_other")?,
            population: self.typed.get("population").cloned(),
            line: number("line")?,
            line_as: self.typed.get("line_as").cloned(),
        })
    }
}

/// Keeps the policy.
pub async fn keep(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Keep>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let situation = Situation::of(&study, &form.typed()?)?
        .ok_or_else(|| PageError::Refused("Nothing is fitted yet, so that there is nothing to decide on.".into()))?;
    if study.state.policy.as_ref() == Some(&situation.chosen) {
        return see_other(&study.href("decide"));
    }
    let worth = worth_of(&situation.chosen, &situation.ranking);
    let choice = Choice {
        account_id: visitor.account_id(),
        chosen: format!("Line at P ≥ {}", text::fixed(situation.chosen.policy.cut_off.min(1.0), 3)),
        figure: format!("{} {}; {}", worth.amount, worth.whom, situation.model.name),
    };
    let mut state = study.state.clone();
    state.policy = Some(situation.chosen);
    app.store.choose(&study.study, &state, &choice).await?;
    see_other(&study.href("decide"))
}

/// Opens the sealed test for the policy kept.
pub async fn confirm(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let (policy, _) = study.policy_model().ok_or_else(|| {
        PageError::Refused("Keep a policy first; the sealed test confirms a choice that was made.".into())
    })?;
    let work = Work::Confirm { study: study.study.id, model: policy.model_id };
    let job =
        app.store.enqueue(visitor.workspace_id(), Some(study.study.id), "Confirming on the sealed test", &work).await?;
    see_other(&format!("/jobs/{job}"))
}
