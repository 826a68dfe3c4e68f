//! What became of a version in use, as the page shows it.

use pronoia_core::watch::{Drift, DriftFindings, TrainingDistribution};
use pronoia_service::ServiceError;
use pronoia_service::release_calls::DAYS;
use pronoia_service::text;
use pronoia_store::release_promise;

use crate::App;
use crate::definitions::{self, Meanings};

/// Values never seen that are listed.
const LISTED: usize = 8;

/// What became of a version.
pub struct WatchView {
    /// Whether customers have changed, in a sentence.
    pub finding: String,
    pub moved: bool,
    /// Probabilities first, then columns, the farthest moved first.
    pub lines: Vec<MovedLine>,
    /// Of the line that comes first.
    pub meaning: Meanings,
    /// Values that training never saw.
    pub unseen: Option<String>,
    pub promises: Vec<PromiseLine>,
}

/// How far something has moved.
pub struct MovedLine {
    pub name: String,
    pub index: String,
    pub by_chance: String,
    /// The part that moved most, and its share then and now.
    pub part: String,
    pub then: String,
    pub now: String,
    pub moved: bool,
}

/// What was found once it was known what happened.
pub struct PromiseLine {
    pub table: String,
    pub when: String,
    pub version: i32,
    pub sentence: String,
    pub broken: bool,
    /// Another model on the same customers.
    pub beside: Option<String>,
    /// Where its customers can be put below the records.
    pub table_id: i64,
}

fn line(name: &str, drift: &Drift) -> MovedLine {
    MovedLine {
        name: name.to_owned(),
        index: text::fixed(drift.psi, 3),
        by_chance: text::fixed(drift.by_chance, 3),
        part: drift.part.0.clone(),
        then: text::percent(drift.part.1),
        now: text::percent(drift.part.2),
        moved: drift.has_moved(),
    }
}

impl WatchView {
    /// Of a version, from the customers it has met.
    pub async fn of(
        app: &App,
        version: i64,
        expected: &TrainingDistribution,
        numbers: &[(i64, i32)],
    ) -> Result<Self, ServiceError> {
        let found = app.store.tally(version, DAYS).await?.found(expected);
        let versions: Vec<i64> = numbers.iter().map(|(id, _)| *id).collect();
        let mut promises = Vec::new();
        for row in app.store.promises(&versions).await? {
            let number = numbers.iter().find(|(id, _)| *id == row.version_id).map_or(0, |(_, number)| *number);
            promises.push(PromiseLine::of(&row, number)?);
        }
        let (finding, moved) = sentence(&found);
        let scores = found.scores.iter().map(|drift| ("probability", drift));
        let drifts: Vec<(&str, &Drift)> =
            scores.chain(found.columns.iter().map(|moved| (moved.column.as_str(), &moved.drift))).collect();
        let meaning = drifts.first().map_or(Meanings::new(), |(name, drift)| definitions::drift(name, drift));
        let lines = drifts.into_iter().map(|(name, drift)| line(name, drift)).collect();
        let unseen = (!found.unseen.is_empty()).then(|| {
            let named =
                |(column, value, count): &(String, String, u64)| format!("{column} “{value}” ({})", text::count(count));
            let some: Vec<String> = found.unseen.iter().take(LISTED).map(named).collect();
            let more = found.unseen.len().saturating_sub(LISTED);
            let more =
                if more > 0 { format!(", and {}", text::counted(more, "other", "others")) } else { String::new() };
            format!("Values that training never saw: {}{more}.", some.join(", "))
        });
        Ok(Self { finding, moved, lines, meaning, unseen, promises })
    }
}

/// Whether customers have changed, in a sentence; and whether they have.
fn sentence(found: &DriftFindings) -> (String, bool) {
    if found.customers == 0 {
        return (
            format!("No data yet: nobody was scored within the last {DAYS} days; drift cannot be measured."),
            false,
        );
    }
    let moved: Vec<&str> = found.columns.iter().filter(|m| m.drift.has_moved()).map(|m| m.column.as_str()).collect();
    let scores = found.scores.as_ref().is_some_and(Drift::has_moved);
    let whom = format!(
        "the {} scored within the last {DAYS} days",
        text::counted(found.customers as usize, "customer", "customers")
    );
    let sentence = match (scores, moved.as_slice()) {
        (false, []) => format!("No significant drift: {whom} are like those that the model was fitted to."),
        (true, []) => format!("Drift of the predicted probabilities, but of no single column: {whom}."),
        (false, columns) => {
            format!("Drift of {}, not of the predicted probabilities: {whom}.", text::listed(columns))
        }
        (true, columns) => {
            format!("Drift of {}, and of the predicted probabilities: {whom}.", text::listed(columns))
        }
    };
    (sentence, scores || !moved.is_empty())
}

impl PromiseLine {
    fn of(row: &release_promise::Model, version: i32) -> Result<Self, ServiceError> {
        let found = row.found()?;
        let kept = &found.kept;
        let area = |(value, se): (f64, f64)| {
            format!(
                "{} ({}–{})",
                text::fixed(value, 3),
                text::fixed(value - 1.96 * se, 3),
                text::fixed((value + 1.96 * se).min(1.0), 3)
            )
        };
        let ratio = kept.ratio().map_or(String::new(), |(ratio, low, high)| {
            format!(
                ", observed over expected {} (95 % CI {}–{})",
                text::fixed(ratio, 2),
                text::fixed(low, 2),
                text::fixed(high, 2)
            )
        });
        let apart = match (kept.area, kept.promised) {
            (Some(found), Some(promised)) => {
                format!(" AUC (ROC) {}; {} at validation.", area(found), area(promised))
            }
            (Some(found), None) => format!(" AUC (ROC) {}.", area(found)),
            (None, _) => String::new(),
        };
        let over = match found.passed_over {
            0 => String::new(),
            n => format!(
                " {} excluded, since the model was fitted to them.",
                text::counted(n as usize, "customer was", "customers were")
            ),
        };
        let beside = found.beside.as_ref().map(|beside| {
            let difference = match beside.larger_by {
                Some((by, se)) if by - 1.96 * se > 0.0 => "ranks them better",
                Some((by, se)) if by + 1.96 * se < 0.0 => "ranks them worse",
                _ => "ranks them without a significant difference",
            };
            let area = beside.kept.area.map_or(String::new(), |found| format!(": AUC (ROC) {}", area(found)));
            format!("{}, whose policy is kept in this study now, {difference}{area}.", beside.model)
        });
        Ok(Self {
            table: row.table_name.clone(),
            when: text::moment(&row.created_at),
            version,
            sentence: format!(
                "{} of {} had the event; {} were expected{ratio}.{apart}{over}",
                text::count(kept.events),
                text::count(kept.rows),
                text::fixed(kept.expected, 0)
            ),
            broken: kept.is_off() || kept.is_duller(),
            beside,
            table_id: row.table_id,
        })
    }
}
