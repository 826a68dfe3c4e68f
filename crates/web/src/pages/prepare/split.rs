//! Prepare, who is judged on what: how rows are dealt out, and how the rarer outcome is made to count.

use actix_web::web;
use askama::Template;
use pronoia_core::Kind;
use pronoia_core::balance::{Balance, BalanceMethod};
use pronoia_core::cautions::Survey;
use pronoia_core::number::{count, percent};
use pronoia_core::split::{SplitMethod, SplitPlan};
use pronoia_core::study::ColumnRole;
use pronoia_core::value::{DecimalMark, parse_number};
use pronoia_service::ServiceError;
use pronoia_service::prepare::split::{SetBalance, SetSplit};
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::prepare::PrepareViews;
use crate::pages::{PageResult, StudyPath, see_other};
use crate::session::Visitor;

/// Different values that a column which says the parts has at most.
const MOST_PARTS: u64 = 12;

/// The numbers of folds that are offered.
const FOLDS: [usize; 2] = [5, 10];

#[derive(Template)]
#[template(path = "prepare/split.html")]
struct SplitPage {
    frame: Frame,
    views: PrepareViews,
    base: String,
    prepare: String,
    has_outcome: bool,
    heading: String,
    folds: [usize; 2],
    plan: SplitPlan,
    balance: Balance,
    methods: [BalanceMethod; 5],
    /// Columns that say when.
    times: Vec<String>,
    /// Columns that may say the part, each with its values.
    markers: Vec<(String, Vec<String>)>,
    /// Columns that may name a customer who has several rows.
    names: Vec<String>,
    /// What was seen of the rows; none if nobody has looked since the choices changed.
    seen: Option<ValueOverlap>,
}

struct ValueOverlap {
    parts: Vec<SplitPartLine>,
    alike: Option<String>,
    balanced: Option<String>,
    survey: Survey,
}

struct SplitPartLine {
    name: &'static str,
    used_for: &'static str,
    rows: String,
    events: String,
    rate: String,
}

impl SplitPage {
    fn time(&self) -> &str {
        match &self.plan.by {
            SplitMethod::Newest { column } => column,
            _ => "",
        }
    }

    /// The marker column, and its values for validation and test.
    fn marker(&self) -> (&str, &str, &str) {
        match &self.plan.by {
            SplitMethod::Given { column, validation, test } => (column, validation.as_deref().unwrap_or(""), test),
            _ => ("", "", ""),
        }
    }

    fn share(&self, share: &f64) -> String {
        text::fixed(share * 100.0, 0)
    }
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor, path: web::Path<StudyPath>) -> PageResult {
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let frame = Frame::of_study(&app, &visitor, &study, 3).await?;
    let profile = study.table.figures()?;
    let outcome = study.state.outcome.as_ref().map(|o| o.column.as_str());
    let others = || profile.columns.iter().filter(|c| Some(c.name.as_str()) != outcome);
    let role = |name: &str| study.state.columns.iter().find(|c| c.name == name).map(|c| c.role);
    let times = others().filter(|c| c.kind == Kind::Date || role(&c.name) == Some(ColumnRole::Time));
    let markers = others().filter(|c| (2..=MOST_PARTS).contains(&c.distinct) && !c.top.is_empty());
    let names =
        others().filter(|c| c.kind != Kind::Date && c.distinct > 1 && role(&c.name) != Some(ColumnRole::Predictor));
    let fresh = study.finding.as_ref().filter(|_| !study.finding_is_stale());
    let seen = fresh.map(|f| ValueOverlap::of(&f.survey, study.state.split.folds.is_some()));
    let heading = match &study.state.split.by {
        SplitMethod::AtRandom => "Random split, stratified by the outcome.".to_owned(),
        SplitMethod::Newest { column } => format!("Split by time: the newest by {column} are for validation and test."),
        SplitMethod::Given { column, .. } => format!("The column {column} assigns the parts."),
    };
    html(&SplitPage {
        views: PrepareViews::of(&study, "split"),
        base: study.href("prepare/split"),
        prepare: study.href("prepare"),
        has_outcome: study.state.outcome.is_some(),
        heading,
        plan: study.state.split.clone(),
        balance: study.state.balance,
        methods: BalanceMethod::ALL,
        folds: FOLDS,
        times: times.map(|c| c.name.clone()).collect(),
        markers: markers.map(|c| (c.name.clone(), c.top.iter().map(|t| t.0.clone()).collect())).collect(),
        names: names.map(|c| c.name.clone()).collect(),
        seen,
        frame,
    })
}

impl ValueOverlap {
    fn of(survey: &Survey, folds: bool) -> Self {
        let part = |name, used_for, count_of: pronoia_core::stats::Count| SplitPartLine {
            name,
            used_for,
            rows: count(count_of.rows),
            events: count(count_of.events),
            rate: percent(count_of.rate()),
        };
        let (fitted_on, chosen_on) = if folds {
            ("models are fitted on these, except one fold at a time", "the same; each fold is predicted out of fold")
        } else {
            ("models are fitted on these", "models and cut-offs are chosen on these")
        };
        let test = SplitPartLine {
            name: "test",
            used_for: "confirms once",
            rows: count(survey.test),
            events: "sealed".into(),
            rate: "sealed".into(),
        };
        let alike = survey.alike;
        let share = alike.alike as f64 / alike.judged.max(1) as f64;
        let alike = (alike.alike > 0).then(|| {
            format!(
                "{} of {} evaluation customers ({}) equal a training row in every predictor.",
                count(alike.alike),
                count(alike.judged),
                percent(share)
            )
        });
        let balanced = survey.balanced.map(|(rows, events)| {
            let made_up = if survey.made_up > 0 {
                format!(" {} of them are synthetic; no figure is ever computed on those.", count(survey.made_up))
            } else {
                String::new()
            };
            format!(
                "While models are fitted, events count as {} of {} training rows ({}).{made_up}",
                count(events.round() as u64),
                count(rows.round() as u64),
                percent(events / rows)
            )
        });
        Self {
            parts: vec![
                part("training", fitted_on, survey.training),
                part("validation", chosen_on, survey.validation),
                test,
            ],
            alike,
            balanced,
            survey: survey.clone(),
        }
    }
}

/// How rows are to be dealt out.
#[derive(Deserialize)]
pub struct SplitForm {
    csrf: String,
    by: String,
    #[serde(default)]
    time: String,
    #[serde(default)]
    marker: String,
    #[serde(default)]
    validation_value: String,
    #[serde(default)]
    test_value: String,
    #[serde(default)]
    together: String,
    #[serde(default)]
    folds: String,
    training: String,
    validation: String,
    seed: String,
}

impl SplitForm {
    fn plan(&self) -> Result<SplitPlan, String> {
        let share = |text: &str| match parse_number(text, DecimalMark::Point) {
            Some(x) => Ok(x / 100.0),
            None => Err(format!("“{text}” is not a number of customers in a hundred.")),
        };
        let filled = |text: &str, what: &str| match text.trim() {
            "" => Err(format!("Say {what}.")),
            text => Ok(text.to_owned()),
        };
        let some = |text: &str| (!text.trim().is_empty()).then(|| text.trim().to_owned());
        let by = match self.by.as_str() {
            "lot" => SplitMethod::AtRandom,
            "time" => SplitMethod::Newest { column: filled(&self.time, "the time column")? },
            "marker" => SplitMethod::Given {
                column: filled(&self.marker, "which column assigns the parts")?,
                validation: some(&self.validation_value),
                test: filled(&self.test_value, "which of its values is the test")?,
            },
            other => return Err(format!("There is no split “{other}”.")),
        };
        Ok(SplitPlan {
            training: share(&self.training)?,
            validation: share(&self.validation)?,
            seed: self.seed.trim().parse().map_err(|_| format!("“{}” is not a whole number.", self.seed))?,
            by,
            together: some(&self.together),
            folds: match self.folds.trim() {
                "" => None,
                folds => Some(folds.parse().map_err(|_| format!("“{folds}” is no number of folds."))?),
            },
        })
    }
}

/// Deals rows out anew.
pub async fn change(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<SplitForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let split = form.plan().map_err(ServiceError::Refused)?;
    app.perform(visitor.actor(), SetSplit { study: path.id, split }).await?;
    see_other(&format!("/studies/{}/prepare/split", path.id))
}

/// How the rarer outcome is to count.
#[derive(Deserialize)]
pub struct BalanceForm {
    csrf: String,
    method: String,
    share: String,
}

/// Balances the training rows otherwise.
pub async fn balance(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<BalanceForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let method: BalanceMethod = form.method.parse().map_err(ServiceError::Refused)?;
    let share = parse_number(&form.share, DecimalMark::Point)
        .ok_or_else(|| ServiceError::Refused(format!("“{}” is not a number of rows in a hundred.", form.share)))?;
    app.perform(visitor.actor(), SetBalance { study: path.id, method, share: share / 100.0 }).await?;
    see_other(&format!("/studies/{}/prepare/split", path.id))
}
