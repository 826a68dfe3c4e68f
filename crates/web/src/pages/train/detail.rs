//! What a fitted model says about itself.

mod coefficients;
mod groups;
mod weights;

use pronoia_core::calibrate::{Calibrated, CalibrationMap};
use pronoia_core::learn::Estimator;
use pronoia_core::model::{Blended, EnsembleMember, Mix};
use pronoia_store::model;

use coefficients::{coefficients, how_found};
pub use groups::card;
use groups::{points, rules};
use pronoia_service::ServiceError;
use pronoia_service::text;
use weights::{evidence, weights};

/// Lines of a table at most.
const MOST_LINES: usize = 60;

/// What a fitted model says about itself.
pub struct CandidateDetail {
    pub name: String,
    /// What it is.
    pub sentence: String,
    /// How its probabilities were made to hold.
    pub calibrated: Option<String>,
    /// What it consists of, where that can be read.
    pub table: Option<DetailTable>,
    /// How it was learned, and what that says.
    pub curve: Option<String>,
    pub finding: String,
    /// From what it was made, so that it can be made again.
    pub made_from: String,
    /// What came of doing that.
    pub proof: Option<String>,
}

/// What a classifier says of itself: a sentence, what it consists of, and how it
/// was learned.
type FamilyDetail = (String, Option<DetailTable>, Option<(String, String)>);

/// What a model consists of, line by line.
pub struct DetailTable {
    pub caption: String,
    pub head: Vec<&'static str>,
    pub rows: Vec<Vec<String>>,
    /// Lines that are not shown.
    pub more: usize,
}

impl DetailTable {
    fn of(caption: String, head: Vec<&'static str>, mut rows: Vec<Vec<String>>) -> Option<Self> {
        let more = rows.len().saturating_sub(MOST_LINES);
        rows.truncate(MOST_LINES);
        (!rows.is_empty()).then_some(Self { caption, head, rows, more })
    }
}

impl CandidateDetail {
    /// Reads a candidate that is fitted.
    pub fn of(row: &model::Model) -> Result<Self, ServiceError> {
        let model = row.fitted()?;
        let on = format!("{} rows, {} of them events", text::count(model.rows), text::count(model.events));
        let (sentence, table, curve) = match (&model.blended, model.members.first()) {
            (Some(blended), _) => blend(blended, &model.members, &on),
            (None, Some(member)) => alone(member, &on),
            (None, None) => (String::new(), None, None),
        };
        let (curve, finding) = curve.map_or((None, String::new()), |(curve, finding)| (Some(curve), finding));
        let calibrated = match &model.members[..] {
            [member] => member.calibrated.as_ref().map(calibration),
            _ => None,
        };
        let made_from = format!(
            "Made by version {} from the records with the fingerprint {}… and the seed {}; they make the same model again, bit for bit, on any number of threads.",
            model.version,
            model.fingerprint.get(..12).unwrap_or(&model.fingerprint),
            model.seed
        );
        let proof = row.proved()?.map(|proof| {
            let when = text::moment(&proof.at);
            match (proof.same, proof.same_records) {
                (true, _) => format!("Fitted again on {when}: the same model, bit for bit."),
                (false, true) => format!(
                    "Fitted again on {when} by version {}: not the same model, though the records are the same.",
                    proof.version
                ),
                (false, false) => format!("Fitted again on {when}: not the same model; the records differ."),
            }
        });
        Ok(Self { name: row.name.clone(), sentence, calibrated, table, curve, finding, made_from, proof })
    }
}

/// How the members of a blend are put together.
fn blend(blended: &Blended, members: &[EnsembleMember], on: &str) -> FamilyDetail {
    let best = blended.losses.iter().copied().fold(f64::INFINITY, f64::min);
    let shares = match blended.mix {
        Mix::Average => "equally weighted",
        Mix::Stacked => "weighted by out-of-fold predictions",
    };
    let sentence = format!(
        "{} models, {shares}, fitted to {on}. On {} training rows the out-of-fold log loss is {} together and {} for the best member alone.",
        members.len(),
        text::count(blended.rows),
        text::fixed(blended.loss, 4),
        text::fixed(best, 4)
    );
    let lines = members.iter().zip(&blended.shares).zip(&blended.losses);
    let rows = lines.map(|((member, share), loss)| {
        let name = member.settings.name();
        vec![
            format!("{name} ({})", super::families::described(&member.settings)),
            text::fixed(*share, 3),
            text::fixed(*loss, 4),
        ]
    });
    let head = vec!["member", "its log-odds times", "log loss alone"];
    (sentence, DetailTable::of("Weights of the members".into(), head, rows.collect()), None)
}

/// One family by itself.
fn alone(member: &EnsembleMember, on: &str) -> FamilyDetail {
    let preparation = &member.preparation;
    match &member.estimator {
        Estimator::Logistic(l) => (how_found(l, on), coefficients(l, preparation), None),
        Estimator::Scorecard(card) => (
            format!(
                "{}{} on the card, fitted to {on}. A customer begins with {} points; more points, less of the event.",
                text::counted(card.columns.len(), "column", "columns"),
                match card.pairs.len() {
                    0 => String::new(),
                    n => format!(" and {}", text::counted(n, "pair of columns", "pairs of columns")),
                },
                text::fixed(card.points(card.intercept), 0)
            ),
            points(card, preparation),
            None,
        ),
        Estimator::Tree(tree) => (
            format!("{} leaves on {on}; {} before pruning.", tree.tree.leaves(), tree.grown),
            rules(tree, preparation),
            None,
        ),
        Estimator::Forest(forest) => {
            let judged = forest.out_of_bag.map_or(String::new(), |o| {
                format!(
                    " Out of bag, on {} rows: AUC (ROC) {}, log loss {}.",
                    text::count(o.rows),
                    text::fixed(o.area_under_roc, 3),
                    text::fixed(o.log_loss, 4)
                )
            });
            let leaves: usize = forest.trees.iter().map(|t| t.leaves()).sum();
            let mean = leaves as f64 / forest.trees.len() as f64;
            let sentence = format!(
                "{} trees of {} leaves each on average, on {on}.{judged}",
                forest.trees.len(),
                text::fixed(mean, 0)
            );
            (sentence, None, None)
        }
        Estimator::Boosted(b) => (
            format!("{} trees on {on}.", b.trees.len()),
            None,
            curve(&b.curve, "trees", &format!("with {} trees", b.trees.len())),
        ),
        Estimator::Network(n) => {
            let best = (1..=n.curve.len()).min_by(|a, b| n.curve[a - 1].1.total_cmp(&n.curve[b - 1].1));
            let after = format!("after {} epochs", best.unwrap_or(0));
            (
                format!("{} networks on {on}, averaged. The curve is that of the first.", n.nets.len()),
                None,
                curve(&n.curve, "epochs", &after),
            )
        }
        Estimator::Bayes(b) => (
            format!("Evidence counted in {on}. Each line is what a value adds to the log-odds."),
            evidence(&b.evidence, preparation),
            None,
        ),
        Estimator::Neighbours(n) => (
            format!(
                "Uses {} of {} known customers, which the model contains.",
                text::count(n.neighbours as u64),
                text::count(n.outcome.len() as u64)
            ),
            weights(&n.known, preparation),
            None,
        ),
        Estimator::Svm(s) => {
            let mut rows: Vec<_> = s.coefficients.iter().collect();
            rows.sort_by(|a, b| b.1.abs().total_cmp(&a.1.abs()));
            let rows = rows.into_iter().map(|(name, c)| vec![name.clone(), text::fixed(*c, 4)]).collect();
            (
                format!("{} of {on} lie within the margin or beyond it.", text::count(s.support)),
                DetailTable::of(
                    "What each adds to the distance from the border".into(),
                    vec!["column", "per unit"],
                    rows,
                ),
                None,
            )
        }
    }
}

/// How the probabilities were made to hold, before and after.
fn calibration(how: &Calibrated) -> String {
    let loss = |kind| how.loss(kind).map_or("–".into(), |loss| text::fixed(loss, 4));
    let before = loss(CalibrationMap::AsTheyAre);
    let rows = text::count(how.rows);
    match how.kind {
        CalibrationMap::AsTheyAre => {
            format!(
                "Not calibrated, since it would not help: the out-of-fold log loss on {rows} training rows is {before}."
            )
        }
        kind => format!(
            "Calibrated ({}): the out-of-fold log loss on {rows} training rows was {before} before and is {} after.",
            kind.word(),
            loss(kind)
        ),
    }
}

/// A learning curve, and what it says.
fn curve(points: &[(f64, f64)], along: &str, best: &str) -> Option<(String, String)> {
    if points.is_empty() {
        return None;
    }
    let line = |side: fn(&(f64, f64)) -> f64| {
        points.iter().enumerate().map(|(i, p)| [i as f64 + 1.0, side(p)]).collect::<Vec<_>>()
    };
    let lines = [("rows fitted to", line(|p| p.0)), ("early-stopping rows", line(|p| p.1))];
    let lines = lines.map(|(name, points)| serde_json::json!({ "name": name, "points": points }));
    let least = points.iter().map(|p| p.1).fold(f64::INFINITY, f64::min);
    let finding = format!("The log loss on the early-stopping rows is least {best}: {}", text::fixed(least, 4));
    Some((serde_json::json!({ "x": along, "y": "log loss", "lines": lines }).to_string(), finding))
}
