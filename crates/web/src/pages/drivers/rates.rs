//! The rate ladders: one column after the other, on one scale.

use actix_web::web;
use askama::Template;
use pronoia_core::drivers::{Driver, Drivers, Members, RateGroup};
use pronoia_core::formulas::neutralised;
use pronoia_core::number::{count, fixed, percent};
use pronoia_core::study::Verdict;
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use serde::Deserialize;

use super::super::{PageResult, StudyPath, csv_file};
use super::{DriversContext, DriversStop, found, ratio, share_of};
use crate::App;
use crate::definitions::{self, Meanings};
use crate::error::html;
use crate::frame::{Frame, encoded};
use crate::session::Visitor;

/// Ladders shown before “all”.
const FIRST: usize = 6;

/// Rungs of a ladder before those in the middle are left out.
const MOST_RUNGS: usize = 12;

/// Thickest rung, in pixels: all customers in one group.
const THICKEST: f64 = 14.0;

#[derive(Template)]
#[template(path = "drivers/rates.html")]
struct RatesPage {
    frame: Frame,
    stop: DriversStop,
    heading: String,
    ladders: Vec<RateLadder>,
    more: usize,
    /// Columns that chance could have made as telling.
    unbelieved: Vec<(String, String)>,
    /// Columns that are no predictors of the study.
    kept_out: Vec<(String, String)>,
    sorts: [(&'static str, &'static str); 4],
    sort: &'static str,
    scale: Vec<(String, String)>,
    /// Where the overall rate stands on the scale, in per cent of its width.
    overall: String,
    overall_rate: String,
    /// Of the column shown first.
    meaning: Meanings,
    looked: bool,
}

/// One column.
struct RateLadder {
    column: String,
    encoded: String,
    finding: String,
    caution: Option<String>,
    believed: bool,
    share: String,
    bits: String,
    value: String,
    correlation: String,
    rungs: Vec<RateRung>,
    /// How many groups between the first and the last ones are not shown.
    between: usize,
    between_after: usize,
}

/// One group of customers.
struct RateRung {
    label: String,
    missing: bool,
    rate: String,
    interval: String,
    rows: String,
    ratio: String,
    thickness: String,
    at: String,
    low: String,
    high: String,
}

/// Which ladders to show, and in what order.
#[derive(Deserialize)]
pub struct RatesQuery {
    sort: Option<String>,
    column: Option<String>,
    #[serde(default)]
    all: bool,
}

const SORTS: [(&str, &str); 4] =
    [("share", "mutual information"), ("value", "information value"), ("correlation", "correlation"), ("name", "name")];

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<RatesQuery>,
) -> PageResult {
    let DriversContext { study, frame, stop, drivers } = DriversContext::at(&app, &visitor, path.id, "rates").await?;
    let sort = query.sort.as_deref().and_then(|s| SORTS.into_iter().find(|(word, _)| *word == s)).unwrap_or(SORTS[0]).0;
    let Some(drivers) = drivers else {
        return html(&RatesPage {
            frame,
            stop,
            heading: "Which columns are associated with the outcome?".into(),
            ladders: Vec::new(),
            more: 0,
            unbelieved: Vec::new(),
            kept_out: Vec::new(),
            sorts: SORTS,
            sort,
            scale: Vec::new(),
            overall: String::new(),
            overall_rate: String::new(),
            meaning: Meanings::new(),
            looked: false,
        });
    };
    let mut believed: Vec<&Driver> = drivers.columns.iter().filter(|d| d.believed && d.usable).collect();
    order(&mut believed, sort);
    let opened = query.column.as_ref().and_then(|name| drivers.columns.iter().find(|d| d.column == *name));
    let mut shown: Vec<&Driver> = opened.into_iter().collect();
    let rest = believed.iter().filter(|d| opened.is_none_or(|o| o.column != d.column));
    shown.extend(rest.copied().take(if query.all { usize::MAX } else { FIRST }));
    let more = believed.iter().filter(|d| !shown.iter().any(|s| s.column == d.column)).count();
    let top = shown.iter().flat_map(|d| &d.groups).filter(|g| g.count.rows >= 20).map(|g| g.count.interval().1);
    let scale = RateScale::up_to(top.fold(drivers.all.rate(), f64::max));
    let caution = |name: &str| {
        let column = study.state.columns.iter().find(|c| c.name == name)?;
        let bad = column.verdict == Verdict::ShouldNotGoIn || !column.goes_in();
        bad.then(
            || if column.goes_in() { column.reason.clone() } else { format!("not a predictor; {}", column.reason) },
        )
    };
    let overall = drivers.all.rate();
    let ladders = shown.iter().map(|d| ladder(d, overall, &scale, caution(&d.column))).collect();
    let named = |of: fn(&Driver) -> bool| -> Vec<(String, String)> {
        drivers.columns.iter().filter(|d| of(d)).map(|d| (d.column.clone(), encoded(&d.column))).collect()
    };
    html(&RatesPage {
        frame,
        heading: heading(&drivers),
        stop,
        ladders,
        more,
        unbelieved: named(|d| d.usable && !d.believed),
        kept_out: named(|d| !d.usable),
        sorts: SORTS,
        sort,
        overall: scale.at(overall),
        overall_rate: percent(overall),
        scale: scale.marks(),
        meaning: shown.first().map_or(Meanings::new(), |d| definitions::driver(&drivers, d, study.study.kind())),
        looked: true,
    })
}

fn order(drivers: &mut [&Driver], sort: &str) {
    match sort {
        "value" => drivers.sort_by(|a, b| b.information_value.total_cmp(&a.information_value)),
        "correlation" => {
            let size = |d: &Driver| d.correlation.map_or(-1.0, f64::abs);
            drivers.sort_by(|a, b| size(b).total_cmp(&size(a)));
        }
        "name" => drivers.sort_by(|a, b| a.column.cmp(&b.column)),
        _ => drivers.sort_by(|a, b| b.share.total_cmp(&a.share)),
    }
}

/// Which columns go strongly with the outcome, in a sentence.
fn heading(drivers: &Drivers) -> String {
    let strong: Vec<&str> = drivers.strong().take(3).map(|d| d.column.as_str()).collect();
    let all = drivers.strong().count();
    match strong.as_slice() {
        [] => "No column by itself is strongly associated with the outcome.".into(),
        [one] => format!("{one} is strongly associated with the outcome."),
        [one, two] => format!("{one} and {two} are strongly associated with the outcome."),
        _ if all == 3 => {
            format!("{}, {} and {} are strongly associated with the outcome.", strong[0], strong[1], strong[2])
        }
        _ => format!("{all} columns are strongly associated with the outcome, most of all {}.", strong[0]),
    }
}

fn ladder(driver: &Driver, overall: f64, scale: &RateScale, caution: Option<String>) -> RateLadder {
    let finding = driver.extremes().map_or_else(String::new, |(least, most)| {
        format!(
            "from {} ({}) to {} ({})",
            percent(least.count.rate()),
            least.label,
            percent(most.count.rate()),
            most.label
        )
    });
    let all: u64 = driver.groups.iter().map(|g| g.count.rows).sum();
    let rung = |g: &RateGroup| {
        let (low, high) = g.count.interval();
        RateRung {
            label: g.label.clone(),
            missing: g.members == Members::Missing,
            rate: percent(g.count.rate()),
            interval: format!("{} – {}", fixed(low * 100.0, 1), fixed(high * 100.0, 1)),
            rows: count(g.count.rows),
            ratio: ratio(g.count.rate(), overall),
            thickness: format!("{:.1}", (THICKEST * (g.count.rows as f64 / all as f64).sqrt()).max(1.0)),
            at: scale.at(g.count.rate()),
            low: scale.at(low),
            high: scale.at(high),
        }
    };
    let groups = &driver.groups;
    let cut = groups.len() > MOST_RUNGS;
    let half = MOST_RUNGS / 2;
    let kept: Vec<&RateGroup> = if cut {
        groups[..half].iter().chain(&groups[groups.len() - half..]).collect()
    } else {
        groups.iter().collect()
    };
    RateLadder {
        column: driver.column.clone(),
        encoded: encoded(&driver.column),
        finding,
        caution,
        believed: driver.believed,
        share: share_of(driver.share),
        bits: fixed(driver.bits, 4),
        value: fixed(driver.information_value, 3),
        correlation: driver
            .correlation
            .map_or("–".into(), |r| if r > 0.0 { format!("+{}", fixed(r, 3)) } else { fixed(r, 3) }),
        rungs: kept.into_iter().map(rung).collect(),
        between: if cut { groups.len() - MOST_RUNGS } else { 0 },
        between_after: half,
    }
}

/// The common scale of the ladders: rates from 0 to a round one.
struct RateScale {
    most: f64,
    step: f64,
}

impl RateScale {
    fn up_to(rate: f64) -> Self {
        let step = [0.01, 0.02, 0.05, 0.1, 0.2].into_iter().find(|s| rate / s <= 6.0).unwrap_or(0.2);
        Self { most: ((rate / step).ceil() * step).min(1.0).max(step), step }
    }

    /// The place of a rate, in per cent of the width.
    fn at(&self, rate: f64) -> String {
        format!("{:.2}%", (rate / self.most).clamp(0.0, 1.0) * 100.0)
    }

    fn marks(&self) -> Vec<(String, String)> {
        let count = (self.most / self.step).round() as usize;
        let mark = |i: usize| i as f64 * self.step;
        (0..=count).map(|i| (self.at(mark(i)), format!("{}", (mark(i) * 100.0).round()))).collect()
    }
}

/// Every group of every column, for a spreadsheet.
pub async fn rates_csv(app: web::Data<App>, visitor: Visitor, path: web::Path<StudyPath>) -> PageResult {
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let drivers = found(&app, &study).await?.ok_or(ServiceError::NotFound)?;
    let mut out = csv::Writer::from_writer(Vec::new());
    let failed = |e: csv::Error| std::io::Error::other(e);
    out.write_record([
        "column",
        "group",
        "rows",
        "events",
        "rate",
        "low",
        "high",
        "bits",
        "information_value",
        "correlation",
        "chance",
    ])
    .map_err(failed)?;
    for driver in &drivers.columns {
        for group in &driver.groups {
            let (low, high) = group.count.interval();
            let figures = [group.count.rate(), low, high, driver.bits, driver.information_value];
            let mut record = vec![
                neutralised(&driver.column).into_owned(),
                neutralised(&group.label).into_owned(),
                group.count.rows.to_string(),
                group.count.events.to_string(),
            ];
            record.extend(figures.map(|x| x.to_string()));
            record.push(driver.correlation.map_or(String::new(), |r| r.to_string()));
            record.push(driver.chance.to_string());
            out.write_record(&record).map_err(failed)?;
        }
    }
    let bytes = out.into_inner().map_err(|e| std::io::Error::other(e.to_string()))?;
    csv_file("rates.csv", bytes)
}
