//! What a fitted model says about itself.

use pronoia_core::calibrate::{Calibrated, Map};
use pronoia_core::drivers::{Band, Notation};
use pronoia_core::learn::bayes::Evidence;
use pronoia_core::learn::logistic::{Coefficient, Logistic, Rescue};
use pronoia_core::learn::neighbours::Known;
use pronoia_core::learn::scorecard::{Bands, CardColumn, Scorecard};
use pronoia_core::learn::tree::DecisionTree;
use pronoia_core::learn::{Cut, Estimator, Node};
use pronoia_core::model::{Blended, Member, Mix};
use pronoia_core::prepare::Preparation;
use pronoia_core::{Kind, Model, number};
use pronoia_store::model;

use crate::error::PageError;
use crate::text;

/// Lines of a table at most.
const MOST_LINES: usize = 60;

/// Levels that a group is named by.
const MOST_LEVELS: usize = 6;

/// What a fitted model says about itself.
pub struct Detail {
    pub name: String,
    /// What it is.
    pub sentence: String,
    /// How its probabilities were made to hold.
    pub calibrated: Option<String>,
    /// What it consists of, where that can be read.
    pub table: Option<Table>,
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
type Said = (String, Option<Table>, Option<(String, String)>);

/// What a model consists of, line by line.
pub struct Table {
    pub caption: String,
    pub head: Vec<&'static str>,
    pub rows: Vec<Vec<String>>,
    /// Lines that are not shown.
    pub more: usize,
}

impl Table {
    fn of(caption: String, head: Vec<&'static str>, mut rows: Vec<Vec<String>>) -> Option<Self> {
        let more = rows.len().saturating_sub(MOST_LINES);
        rows.truncate(MOST_LINES);
        (!rows.is_empty()).then_some(Self { caption, head, rows, more })
    }
}

impl Detail {
    /// Reads a candidate that is fitted.
    pub fn of(row: &model::Model) -> Result<Self, PageError> {
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
fn blend(blended: &Blended, members: &[Member], on: &str) -> Said {
    let best = blended.losses.iter().copied().fold(f64::INFINITY, f64::min);
    let shares = match blended.mix {
        Mix::Average => "each counting the same",
        Mix::Stacked => "each counting as much as rows that it had not met say it should",
    };
    let sentence = format!(
        "{} models, {shares}, fitted to {on}. On {} training rows, each told by models that had not met it, the log loss is {} together and {} by the best of them alone.",
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
    (sentence, Table::of("What each member counts for".into(), head, rows.collect()), None)
}

/// One family by itself.
fn alone(member: &Member, on: &str) -> Said {
    let preparation = &member.preparation;
    match &member.estimator {
        Estimator::Logistic(l) => (coefficients_sentence(l, on), coefficients(l), None),
        Estimator::Scorecard(card) => (
            format!(
                "{} columns on the card, fitted to {on}. A customer begins with {} points; more points, less of the event.",
                card.columns.len(),
                text::fixed(card.points(card.intercept), 0)
            ),
            points(card, preparation),
            None,
        ),
        Estimator::Tree(tree) => (
            format!("{} groups on {on}; before it was cut back there were {}.", tree.tree.leaves(), tree.grown),
            rules(tree, preparation),
            None,
        ),
        Estimator::Forest(forest) => {
            let judged = forest.out_of_bag.map_or(String::new(), |o| {
                format!(
                    " Judged on the {} rows that each tree had not met: area under ROC {}, log loss {}.",
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
            let after = format!("after {} times through the rows", best.unwrap_or(0));
            (
                format!("{} networks on {on}, averaged. The curve is that of the first.", n.nets.len()),
                None,
                curve(&n.curve, "times through the rows", &after),
            )
        }
        Estimator::Bayes(b) => (
            format!("Evidence counted in {on}. Each line is what a value adds to the log-odds."),
            evidence(&b.evidence, preparation),
            None,
        ),
        Estimator::Neighbours(n) => (
            format!(
                "Asks {} of {} known customers, which the model holds.",
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
                Table::of("What each adds to the distance from the border".into(), vec!["column", "per unit"], rows),
                None,
            )
        }
    }
}

/// How the probabilities were made to hold, before and after.
fn calibration(how: &Calibrated) -> String {
    let loss = |kind| how.loss(kind).map_or("–".into(), |loss| text::fixed(loss, 4));
    let before = loss(Map::AsTheyAre);
    let rows = text::count(how.rows);
    match how.kind {
        Map::AsTheyAre => {
            format!(
                "Calibration would not help: on {rows} training rows, each told by a model that had not met it, the log loss is {before} as it is."
            )
        }
        kind => format!(
            "Calibrated ({}): on {rows} training rows, each told by a model that had not met it, the log loss was {before} before and is {} after.",
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
    let lines = [("rows fitted to", line(|p| p.0)), ("rows held back", line(|p| p.1))];
    let lines = lines.map(|(name, points)| serde_json::json!({ "name": name, "points": points }));
    let least = points.iter().map(|p| p.1).fold(f64::INFINITY, f64::min);
    let finding = format!("On rows held back the log loss is least {best}: {}", text::fixed(least, 4));
    Some((serde_json::json!({ "x": along, "y": "log loss", "lines": lines }).to_string(), finding))
}

fn coefficients_sentence(l: &Logistic, on: &str) -> String {
    let note = match l.rescue {
        Some(Rescue::Separated) => {
            " Some columns tell the outcome of some customers with certainty, so that a ridge penalty of 1 had to be used; there are no standard errors."
        }
        Some(Rescue::Collinear) => {
            " Some columns are sums of others, so that a ridge penalty of 1 had to be used; there are no standard errors."
        }
        Some(Rescue::FewEvents) => {
            " There are fewer than five events for each coefficient, so that a ridge penalty of 1 was used; there are no standard errors."
        }
        None if l.ridge > 0.0 || l.lasso > 0.0 => " Penalised coefficients have no standard errors.",
        None => "",
    };
    format!("{} Newton steps on {on}. Numbers count in standard deviations, indicators as yes or no.{note}", l.steps)
}

fn coefficients(l: &Logistic) -> Option<Table> {
    let mut terms: Vec<_> = l.coefficients.iter().filter(|c| c.value != 0.0).collect();
    // The clearest first: those that stand farthest from 0 by their own error.
    let clear = |c: &Coefficient| (c.value / c.se.unwrap_or(1.0)).abs();
    terms.sort_by(|a, b| clear(b).total_cmp(&clear(a)));
    let gone = l.coefficients.len() - terms.len();
    let caption = match gone {
        0 => "What goes with the event".into(),
        n => format!(
            "What goes with the event; the penalty set {} to nothing",
            text::counted(n, "coefficient", "coefficients")
        ),
    };
    let optional = |x: Option<f64>, d| x.map_or("–".to_owned(), |x| text::fixed(x, d));
    let interval = |c: &Coefficient| {
        c.se.map_or("–".to_owned(), |se| {
            let end = |side: f64| text::fixed((c.value + side * pronoia_core::drivers::Z95 * se).exp(), 2);
            format!("{} to {}", end(-1.0), end(1.0))
        })
    };
    let row = |c: &&Coefficient| {
        let p = c.p.map_or("–".into(), |p| if p < 0.001 { "< 0.001".into() } else { text::fixed(p, 3) });
        vec![
            c.feature.clone(),
            text::fixed(c.value.exp(), 2),
            interval(c),
            text::fixed(c.value, 3),
            optional(c.se, 3),
            p,
        ]
    };
    let head = vec!["column", "odds ratio", "95 % interval", "coefficient", "standard error", "p"];
    Table::of(caption, head, terms.iter().map(row).collect())
}

/// Levels by name, the first few of them.
fn listed(names: Vec<&str>) -> String {
    let more = names.len().saturating_sub(MOST_LEVELS);
    let shown: Vec<String> = names.iter().take(MOST_LEVELS).map(|name| format!("“{name}”")).collect();
    if more > 0 { format!("{} and {more} more", shown.join(", ")) } else { shown.join(" or ") }
}

/// The groups of a column on the card, with what each says.
fn groups(column: &CardColumn, preparation: &Preparation) -> Vec<(String, f64)> {
    let (mut groups, missing) = match &column.bands {
        Bands::Number { edges, evidence, missing, whole } => {
            let is_date = preparation.inputs.iter().any(|i| i.name == column.column && i.kind == Kind::Date);
            let notation = match (is_date, whole) {
                (true, _) => Notation::Day,
                (false, true) => Notation::Whole,
                (false, false) => Notation::Measured,
            };
            let label = |band: usize| {
                let above = band.checked_sub(1).map(|below| edges[below]);
                Band { above, up_to: edges.get(band).copied(), least: f64::NEG_INFINITY, notation }.label()
            };
            (evidence.iter().enumerate().map(|(band, e)| (label(band), *e)).collect::<Vec<_>>(), missing)
        }
        Bands::Levels { group, evidence, missing } => {
            let levels = |wanted: usize| {
                let inside = group.iter().enumerate().filter(|g| usize::from(*g.1) == wanted);
                listed(inside.map(|(code, _)| preparation.level_of(&column.column, code as u32)).collect())
            };
            (evidence.iter().enumerate().map(|(group, e)| (levels(group), *e)).collect(), missing)
        }
    };
    if *missing != 0.0 {
        groups.push(("missing".into(), *missing));
    }
    groups
}

/// The points of a model that is one scorecard.
pub fn card(model: &Model) -> Option<Table> {
    match &model.members[..] {
        [Member { estimator: Estimator::Scorecard(card), preparation, .. }] => points(card, preparation),
        _ => None,
    }
}

fn points(card: &Scorecard, preparation: &Preparation) -> Option<Table> {
    let mut columns: Vec<&CardColumn> = card.columns.iter().collect();
    columns.sort_by(|a, b| b.information.total_cmp(&a.information));
    let rows = columns.into_iter().flat_map(|column| {
        groups(column, preparation).into_iter().map(|(label, evidence)| {
            vec![
                format!("{}: {label}", column.column),
                text::fixed(card.points_of(column, evidence), 0),
                text::fixed(evidence, 2),
            ]
        })
    });
    let head = vec!["column and group", "points", "weight of evidence"];
    Table::of("Points; a customer’s points add up over the columns".into(), head, rows.collect())
}

/// The groups of a tree, the likeliest first, each as the answers that lead to it.
fn rules(tree: &DecisionTree, preparation: &Preparation) -> Option<Table> {
    let mut waiting = vec![(0usize, Vec::<String>::new())];
    let mut leaves = Vec::new();
    while let Some((at, way)) = waiting.pop() {
        match &tree.tree.nodes[at] {
            Node::Leaf { .. } => leaves.push((at, way)),
            Node::Inner { feature, cut, missing_left, left, right, .. } => {
                // One feature stands for one column where columns come in as they are.
                let column = preparation.columns.get(*feature as usize).map_or("", |c| c.name.as_str());
                let [yes, no] = answers(column, cut, *missing_left, preparation);
                for (child, answer) in [(*left, yes), (*right, no)] {
                    let way = way.iter().cloned().chain([answer]).collect();
                    waiting.push((child as usize, way));
                }
            }
        }
    }
    let rate = |at: usize| tree.counts[at][1] / (tree.counts[at][0] + tree.counts[at][1]);
    leaves.sort_by(|a, b| rate(b.0).total_cmp(&rate(a.0)));
    let rows = leaves.into_iter().map(|(at, way)| {
        let rule = if way.is_empty() { "everybody".into() } else { way.join(", ") };
        let all = tree.counts[at][0] + tree.counts[at][1];
        vec![rule, text::fixed(all, 0), text::percent(rate(at))]
    });
    Table::of(
        "The groups it ends in, the likeliest first".into(),
        vec!["group", "training rows", "event rate"],
        rows.collect(),
    )
}

/// What is true of those who go left, and of those who go right.
fn answers(column: &str, cut: &Cut, missing_left: bool, preparation: &Preparation) -> [String; 2] {
    let or_missing = [missing_left, !missing_left].map(|here| if here { " or missing" } else { "" });
    match cut {
        Cut::AtMost { threshold } => {
            let figure = number::plain(*threshold);
            [format!("{column} up to {figure}{}", or_missing[0]), format!("{column} over {figure}{}", or_missing[1])]
        }
        Cut::OneOf { levels } => {
            let names = listed(levels.iter().map(|&code| preparation.level_of(column, code)).collect());
            [format!("{column} is {names}{}", or_missing[0]), format!("{column} is not {names}{}", or_missing[1])]
        }
    }
}

/// The values that say most, of all columns.
fn evidence(of_features: &[Evidence], preparation: &Preparation) -> Option<Table> {
    let mut lines: Vec<(String, f64)> = Vec::new();
    for (evidence, column) in of_features.iter().zip(&preparation.columns) {
        let name = &column.name;
        let missing = match evidence {
            Evidence::Bands { edges, adds, missing } => {
                let label = |band: usize| match edges.get(band) {
                    Some(up) => format!("{name} up to {}", number::plain(*up)),
                    None => format!("{name} over {}", edges.last().map_or("any".into(), |e| number::plain(*e))),
                };
                lines.extend(adds.iter().enumerate().map(|(band, add)| (label(band), *add)));
                missing
            }
            Evidence::Normal { events, others, missing } => {
                let label = format!(
                    "{name}: mean {} with the event, {} without",
                    number::plain(events[0]),
                    number::plain(others[0])
                );
                lines.push((label, (events[0] - others[0]) / others[1].sqrt()));
                missing
            }
            Evidence::Levels { adds, missing } => {
                let label = |code: usize| format!("{name} is “{}”", preparation.level_of(name, code as u32));
                lines.extend(adds.iter().enumerate().map(|(code, add)| (label(code), *add)));
                missing
            }
        };
        if *missing != 0.0 {
            lines.push((format!("{name} is missing"), *missing));
        }
    }
    lines.sort_by(|a, b| b.1.abs().total_cmp(&a.1.abs()));
    let rows = lines.into_iter().map(|(label, add)| vec![label, text::fixed(add, 2)]).collect();
    Table::of("What says most".into(), vec!["value", "adds"], rows)
}

/// How much every column counts when customers are compared.
fn weights(known: &[Known], preparation: &Preparation) -> Option<Table> {
    let counts = known.iter().map(|known| match known {
        Known::Numbers(_, counts) | Known::Levels(_, counts) => f64::from(*counts),
    });
    let most = counts.clone().fold(f64::MIN_POSITIVE, f64::max);
    // A gap of a number has a feature of its own, which stands after its column.
    let mut names: Vec<String> = Vec::new();
    for column in &preparation.columns {
        names.push(column.name.clone());
        if let pronoia_core::prepare::Coding::Number { flag: true, .. } = column.coding {
            names.push(format!("{} is missing", column.name));
        }
    }
    let mut lines: Vec<(String, f64)> = names.into_iter().zip(counts).collect();
    lines.sort_by(|a, b| b.1.total_cmp(&a.1));
    let rows = lines.into_iter().map(|(name, counts)| vec![name, text::percent(counts / most)]).collect();
    Table::of("How much each column counts, against the one that counts most".into(), vec!["column", "counts"], rows)
}
