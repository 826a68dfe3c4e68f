//! Calendar days as numbers, so that every form can compute with them.

use super::definitions::Definitions;
use super::nodes::{call, compare, minus, number, over, plus, times};
use pronoia_data::expression::{Comparison, ExpressionNode, Function};

fn floor(of: ExpressionNode) -> ExpressionNode {
    call(Function::Floor, of)
}

/// The whole number of times that `by` fits into a number.
fn fits(number_of: ExpressionNode, by: f64) -> ExpressionNode {
    floor(over(number_of, number(by)))
}

/// The nearest whole number, of two that are as near the even one.
pub(super) fn rounded(made: &mut Definitions, node: ExpressionNode) -> ExpressionNode {
    let half = ExpressionNode::Column(made.number("and_a_half", plus(node, number(0.5))));
    let is_between = compare(Comparison::Equal, half.clone(), floor(half.clone()));
    let even = times(number(2.0), fits(half.clone(), 2.0));
    ExpressionNode::Case(vec![(is_between, even)], Box::new(floor(half)))
}

/// What a function of dates gives of the date that is so many days after 1970-01-01 (Hinnant 2013, “chrono-compatible low-level
/// date algorithms”: years from March on, in eras of 400).
pub(super) fn part(made: &mut Definitions, function: Function, days: ExpressionNode) -> ExpressionNode {
    let days = ExpressionNode::Column(made.number("days", days));
    if function == Function::DayOfWeek {
        let since_sunday = plus(days, number(4.0));
        return minus(since_sunday.clone(), times(number(7.0), fits(since_sunday, 7.0)));
    }
    let since_era_0 = plus(days, number(719_468.0));
    let era = ExpressionNode::Column(made.number("era", fits(since_era_0.clone(), 146_097.0)));
    let of_era = minus(since_era_0, times(era.clone(), number(146_097.0)));
    let of_era = ExpressionNode::Column(made.number("day_of_era", of_era));
    let leap = |by: f64| fits(of_era.clone(), by);
    let years = minus(plus(minus(of_era.clone(), leap(1_460.0)), leap(36_524.0)), leap(146_096.0));
    let year = ExpressionNode::Column(made.number("year_of_era", fits(years, 365.0)));
    let days_before =
        minus(plus(times(number(365.0), year.clone()), fits(year.clone(), 4.0)), fits(year.clone(), 100.0));
    let of_year = ExpressionNode::Column(made.number("day_of_year", minus(of_era, days_before)));
    let from_march = fits(plus(times(number(5.0), of_year.clone()), number(2.0)), 153.0);
    let from_march = ExpressionNode::Column(made.number("month_from_march", from_march));
    let is_later = compare(Comparison::GreaterOrEqual, from_march.clone(), number(10.0));
    match function {
        Function::DayOfMonth => {
            let before = fits(plus(times(number(153.0), from_march), number(2.0)), 5.0);
            plus(minus(of_year, before), number(1.0))
        }
        Function::Month => ExpressionNode::Case(
            vec![(is_later, minus(from_march.clone(), number(9.0)))],
            Box::new(plus(from_march, number(3.0))),
        ),
        _ => {
            let year = plus(year, times(era, number(400.0)));
            ExpressionNode::Case(vec![(is_later, plus(year.clone(), number(1.0)))], Box::new(year))
        }
    }
}
