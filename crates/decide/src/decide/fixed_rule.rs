//! Acting by a rule that was there before any model.

use serde::{Deserialize, Serialize};

use super::{ExpectedProfit, Payoffs, Population};
use pronoia_data::Table;
use pronoia_data::evaluate::Confusion;
use pronoia_data::expression::Expression;
use pronoia_data::stats::Z90;

/// What acting by a rule would have come to on the rows judged.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct FixedRule {
    /// Whom it would have acted on.
    pub counts: Confusion,
    /// Rows on which it says neither yes nor no, because something is missing; it
    /// does not act on them.
    pub unknown: u64,
}

impl FixedRule {
    /// Follows a condition on the rows given; `event[i]` belongs to `rows[i]`.
    ///
    /// # Errors
    /// A sentence if the expression cannot be worked out on this table.
    pub fn follow(condition: &Expression, table: &Table, rows: &[usize], event: &[bool]) -> Result<Self, String> {
        let says = condition.holds(table)?;
        let mut counts = Confusion::default();
        let mut unknown = 0;
        for (&row, &happened) in rows.iter().zip(event) {
            unknown += u64::from(says[row].is_none());
            counts.add(says[row] == Some(true), happened);
        }
        Ok(Self { counts, unknown })
    }

    /// What it would have brought for a population like the customers judged; the interval
    /// follows from the spread of single customers.
    pub fn expected(&self, payoffs: &Payoffs, population: &Population) -> ExpectedProfit {
        let counts = &self.counts;
        let (events, others) = (counts.hits + counts.missed, counts.false_alarms + counts.left_alone);
        let rows = (events + others) as f64;
        let weights = population.weights(rows, events as f64);
        let parts = [
            (counts.hits, payoffs.act.event, weights.event),
            (counts.false_alarms, payoffs.act.other, weights.other),
            (counts.missed, payoffs.leave.event, weights.event),
            (counts.left_alone, payoffs.leave.other, weights.other),
        ];
        let sum =
            |of: fn(f64) -> f64| parts.iter().map(|&(n, worth, weight)| n as f64 * of(worth * weight)).sum::<f64>();
        let (profit, squares) = (sum(|x| x), sum(|x| x * x));
        let reach = Z90 * (squares - profit * profit / rows.max(1.0)).max(0.0).sqrt();
        ExpectedProfit { profit, low: profit - reach, high: profit + reach }
    }
}

#[cfg(test)]
mod tests {
    use super::super::Payoff;
    use super::*;
    use pronoia_data::Kind;
    use pronoia_data::table::ColumnBuilder;

    #[test]
    fn a_rule_acts_where_it_holds_and_its_worth_is_that_of_single_customers() {
        let mut claims = ColumnBuilder::new("claims", Kind::Number);
        for value in [Some(3.0), Some(0.0), None, Some(2.0), Some(5.0)] {
            match value {
                Some(x) => claims.push_number(x),
                None => claims.push_missing(),
            }
        }
        let table = Table::new(vec![claims.finish()]).expect("a table");
        let rule = Expression::check_condition("claims >= 2", &Expression::columns_of(&table)).expect("a condition");
        // The last row is not judged.
        let found = FixedRule::follow(&rule, &table, &[0, 1, 2, 3], &[true, false, true, false]).expect("followed");
        assert_eq!(found.counts, Confusion { hits: 1, false_alarms: 1, missed: 1, left_alone: 1 });
        assert_eq!(found.unknown, 1);
        let payoffs = Payoffs { act: Payoff { event: 30.0, other: -10.0 }, ..Payoffs::default() };
        let expected = found.expected(&payoffs, &Population::of(400.0));
        // 30, −10, 0 and 0 among four: 5 on average, with a variance of 225.
        assert!((expected.profit - 2_000.0).abs() < 1e-9, "{expected:?}");
        let reach = Z90 * (225.0f64 / 4.0).sqrt() * 400.0;
        assert!((expected.high - expected.profit - reach).abs() < 1e-9 && expected.low < expected.profit);
    }

    #[test]
    fn acting_on_nobody_is_worth_nothing_for_certain() {
        let nobody = FixedRule { counts: Confusion { missed: 10, left_alone: 90, ..Confusion::default() }, unknown: 0 };
        let payoffs = Payoffs { act: Payoff { event: 30.0, other: -10.0 }, ..Payoffs::default() };
        let expected = nobody.expected(&payoffs, &Population::default());
        assert_eq!((expected.low, expected.profit, expected.high), (0.0, 0.0, 0.0));
    }
}
