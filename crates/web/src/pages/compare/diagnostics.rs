//! A closer look at the open candidate: would more rows help, and how far do a few columns go?

use actix_web::web;
use pronoia_core::decide::{self, CustomerPayoffs, Ranking};
use pronoia_core::validation::{ByRows, Diagnostics};
use pronoia_service::ServiceError;
use pronoia_service::compare::ComputeLearningCurve;
use pronoia_service::text;
use pronoia_store::model;
use serde_json::json;

use super::Money;
use crate::App;
use crate::error::{PageResult, see_other};
use crate::pages::StudyPath;
use crate::pages::train::{DetailTable, OfCandidate, card};
use crate::session::Visitor;

/// Bits of profit below which a share of it means nothing.
const NO_PROFIT: f64 = 1e-9;

/// The closer look as the page shows it.
pub struct CloserView {
    /// Whether more rows would help.
    pub rows_finding: String,
    /// The curve that says so.
    pub curve: String,
    /// How sure that is.
    pub rows_remark: String,
    /// How far a few columns go.
    pub few_finding: String,
    /// How that was found.
    pub few_remark: String,
    /// The card of those columns.
    pub card: Option<DetailTable>,
}

impl CloserView {
    /// The look at a candidate, if somebody asked for it.
    pub fn of(row: &model::Model, money: Option<&Money>) -> Result<Option<Self>, ServiceError> {
        let Some(closer) = row.looked_at()? else { return Ok(None) };
        let by_rows = &closer.by_rows;
        let name = row.name.to_lowercase();
        let points: Vec<_> = by_rows.points.iter().map(|p| [p.rows as f64, p.log_loss]).collect();
        let curve = json!({
            "x": "training rows", "y": "log loss",
            "lines": [{ "name": "on the evaluation rows", "points": points }],
        });
        let (few_finding, few_remark) = few(&closer, &name, money);
        let judged = format!(
            "Evaluated on {} customers with {} events.",
            text::count(by_rows.judged),
            text::count(by_rows.events)
        );
        Ok(Some(Self {
            rows_finding: rows_finding(by_rows),
            curve: curve.to_string(),
            rows_remark: judged,
            few_finding,
            few_remark,
            card: closer.few.as_ref().and_then(|beside| card(&beside.few.model)),
        }))
    }
}

fn rows_finding(by_rows: &ByRows) -> String {
    let (Some(gain), [.., half, all]) = (by_rows.gain, &by_rows.points[..]) else {
        return "There are too few training rows for a learning curve".into();
    };
    let interval =
        format!("95 % CI {} to {}", text::fixed(gain.fall - gain.reach, 4), text::fixed(gain.fall + gain.reach, 4));
    let says = if gain.is_clear() {
        "more rows of the same kind would help"
    } else {
        "no evidence that more rows of the same kind would help"
    };
    format!(
        "From {} to {} training rows the log loss fell by {} ({interval}): {says}",
        text::count(half.rows),
        text::count(all.rows),
        text::fixed(gain.fall, 4)
    )
}

/// How far a few columns go, and how that was found.
fn few(closer: &Diagnostics, name: &str, money: Option<&Money>) -> (String, String) {
    let Some(beside) = &closer.few else {
        return ("No column is informative by itself".into(), String::new());
    };
    let columns = &beside.few.columns;
    let listed = match &columns[..] {
        [] => String::new(),
        [one] => format!("One column, {one},"),
        several => {
            let number = ["", "", "Two", "Three"].get(several.len()).copied().unwrap_or("A few");
            format!("{number} columns, {},", text::listed(several))
        }
    };
    // What a model gains over doing nothing, at its best point.
    let best = |ranking: &Ranking, money: &Money| {
        decide::ProfitCurve::best_gain(ranking, &CustomerPayoffs::Same(money.payoffs), &money.population)
    };
    let area = |ranking: f64| text::fixed(ranking, 3);
    let finding = match money.map(|money| (money, best(&closer.whole, money), best(&beside.ranking, money))) {
        Some((money, whole, few)) if whole > NO_PROFIT => format!(
            "{listed} give {} of the profit of {name}: {} of {} {}",
            text::percent(few / whole),
            text::money(few),
            text::money(whole),
            money.whom()
        ),
        _ => {
            let whole = beside.less.map_or(beside.area_under_roc, |less| beside.area_under_roc + less.value);
            format!("{listed} reach an AUC (ROC) of {}, {name} {}", area(beside.area_under_roc), area(whole))
        }
    };
    let less = beside.less.map_or(String::new(), |less| {
        let (low, high) = less.interval();
        format!(
            " AUC (ROC) of {name} is higher by {} (95 % CI {} to {}).",
            text::fixed(less.value, 4),
            text::fixed(low, 4),
            text::fixed(high, 4)
        )
    });
    let remark = format!(
        "A scorecard on columns from forward selection, each the one that reduces the out-of-fold log loss most.{less}"
    );
    (finding, remark)
}

/// Asks for a closer look.
pub async fn begin(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<OfCandidate>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.perform(visitor.actor(), ComputeLearningCurve { study: path.id, candidate: form.model }).await?;
    see_other(&format!("/studies/{}/compare?model={}#closer", path.id, form.model))
}
