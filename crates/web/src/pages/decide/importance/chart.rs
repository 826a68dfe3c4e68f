//! How much a model leans on each column, as lines of a ledger.

use pronoia_core::evaluate::delong::Area;
use pronoia_core::explain::ColumnImportance;
use pronoia_core::validation::ModelImportance;
use pronoia_service::study_view::{StudyView, decide_alike, whom};
use pronoia_service::text;

use super::ImportanceQuery;

/// Width of the bars in their own units.
const WIDTH: f64 = 240.0;

/// Area below which a loss is not worth a sentence.
const LITTLE: f64 = 5e-4;

/// The lines, and what they say.
pub struct Leaning {
    pub heading: String,
    pub how: String,
    /// Why the figures are not of the present policy.
    pub stale: Option<&'static str>,
    pub in_money: bool,
    pub whom: String,
    pub lines: Vec<LeaningLine>,
    /// Columns that it could go by and does not.
    pub unused: Option<String>,
    /// What is lost with none of them: all that the model brings.
    pub total: [String; 2],
    /// Where nothing is lost, on the bars.
    pub zero: String,
}

/// A column.
pub struct LeaningLine {
    pub column: String,
    pub href: String,
    pub open: bool,
    /// Whether what the bars show is lost for certain, and whether area is.
    pub clear: bool,
    pub clear_area: bool,
    /// The bar from nothing, and the ends of its interval.
    pub bar: [String; 2],
    pub whisker: [String; 2],
    pub money: Option<[String; 2]>,
    pub area: [String; 2],
}

impl Leaning {
    pub fn of(
        found: &ModelImportance,
        view: &StudyView,
        asked: &ImportanceQuery,
        base: &str,
        open: Option<&str>,
    ) -> Self {
        let influence = &found.influence;
        let in_money = influence.gain.is_some();
        let ends: Vec<[f64; 3]> = influence.columns.iter().map(|c| lost(c, in_money)).collect();
        let least = ends.iter().map(|e| e[1]).fold(0.0, f64::min);
        let most = ends.iter().map(|e| e[2]).fold(f64::MIN_POSITIVE, f64::max);
        let place = |value: f64| (value - least) / (most - least) * WIDTH;
        let written = |value: f64| format!("{value:.1}");
        let used = influence.columns.iter().zip(&ends).filter(|(column, _)| column.is_used());
        let lines = used.map(|(column, &[value, low, high])| {
            let (from, to) = (place(0.0_f64.min(value)), place(0.0_f64.max(value)));
            LeaningLine {
                href: format!("{}#column", asked.at_column(base, &column.column)),
                open: open == Some(column.column.as_str()),
                clear: low > 0.0,
                clear_area: column.area.is_some_and(|area| area.interval().0 > 0.0),
                bar: [written(from), written(to - from)],
                whisker: [place(low), place(high)].map(written),
                money: column
                    .money
                    .map(|m| [text::money(m.profit), format!("{} to {}", text::money(m.low), text::money(m.high))]),
                area: column.area.map_or(["–".into(), String::new()], area),
                column: column.column.clone(),
            }
        });
        let unused: Vec<&str> = influence.columns.iter().filter(|c| !c.is_used()).map(|c| c.column.as_str()).collect();
        let unused =
            (!unused.is_empty()).then(|| format!("Importance exactly 0, not used: {}.", text::listed(&unused)));
        let chosen = found.chosen.as_ref();
        let whom = chosen.map_or(String::new(), |chosen| whom(&chosen.population, &chosen.currency));
        let stale = match (chosen, view.state.policy.as_ref()) {
            (None, None) => None,
            (None, Some(_)) => Some("There was no policy yet when this was computed, so that nothing is in money."),
            (Some(then), Some(now)) if decide_alike(then, now) => None,
            (Some(_), _) => Some("The policy has been changed since; the money is that of the earlier one."),
        };
        Self {
            heading: heading(&influence.columns, in_money, &whom),
            how: format!(
                "Permutation importance: each column was shuffled {} times among {} {} customers ({} {}); bars show what was lost.",
                influence.shuffles,
                text::count(influence.rows),
                view.state.split.judged_on(),
                text::count(influence.events),
                view.study.kind().events_noun(),
            ),
            stale,
            in_money,
            whom,
            lines: lines.collect(),
            unused,
            total: [
                influence.gain.map_or(String::new(), |gain| text::money(gain.profit)),
                influence.area.map_or("–".into(), |area| text::fixed(area.value - 0.5, 3)),
            ],
            zero: written(place(0.0)),
        }
    }
}

/// What is lost with a column, and the interval of it.
fn lost(column: &ColumnImportance, in_money: bool) -> [f64; 3] {
    match (in_money, column.money, column.area) {
        (true, Some(money), _) => [money.profit, money.low, money.high],
        (_, _, Some(area)) => {
            let (low, high) = area.interval();
            [area.value, low, high]
        }
        _ => [0.0; 3],
    }
}

fn area(area: Area) -> [String; 2] {
    let (low, high) = area.interval();
    [text::fixed(area.value, 3), format!("{} to {}", text::fixed(low, 3), text::fixed(high, 3))]
}

fn heading(columns: &[ColumnImportance], in_money: bool, whom: &str) -> String {
    let clear = columns.iter().filter(|column| lost(column, in_money)[1] > 0.0).count();
    let Some(first) = columns.first().filter(|_| clear > 0) else {
        return "No column is significant by itself.".into();
    };
    let lost = match (in_money, first.money, first.area) {
        (true, Some(money), _) => {
            format!("shuffling it costs {} {whom}", text::money(money.profit))
        }
        (_, _, Some(area)) if area.value >= LITTLE => {
            format!("shuffling it costs {} of AUC (ROC)", text::fixed(area.value, 3))
        }
        _ => return "No column is significant by itself.".into(),
    };
    let others = match clear {
        1 => "no other column is significant".to_owned(),
        n => format!("{} more are significant", text::count(n as u64 - 1)),
    };
    format!("Most important: {}; {lost}; {others}.", first.column)
}
