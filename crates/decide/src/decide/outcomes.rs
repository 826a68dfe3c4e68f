//! What each thing that can happen is worth, with the amounts filled in.

use serde::Serialize;

use super::economics::Economics;
use pronoia_data::number;

/// One action with one outcome.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct OutcomeWorth {
    /// What is done about whom, as the beginning of a sentence.
    pub who: &'static str,
    /// How its worth is worked out, with the amounts filled in; empty where there is nothing to
    /// work out.
    pub formula: String,
    /// What it is worth.
    pub worth: f64,
    /// Whether the customer has the event; none where it makes no difference.
    pub event: Option<bool>,
    /// Whether it is what comes of acting.
    pub acts: bool,
}

impl Economics<f64> {
    /// Everything that can be done and happen, in the words of the question.
    pub fn outcomes(&self) -> Vec<OutcomeWorth> {
        let payoffs = self.payoffs();
        let of = |who, event, worth, formula: String| OutcomeWorth { who, formula, worth, event, acts: true };
        let alone = |outcome: OutcomeWorth| OutcomeWorth { acts: false, ..outcome };
        let left_alone = |who| alone(of(who, None, 0.0, String::new()));
        match self {
            Self::Churn(a) => {
                let (save, take) = (chance(a.save_rate), chance(a.stayers_take));
                let (offer, contact) = (money(a.offer_cost), money(a.contact_cost));
                let value = yearly(a.value_kept, (a.years, a.discount), a.value());
                vec![
                    of(
                        "the offer, to one who would leave",
                        Some(true),
                        payoffs.act.event,
                        format!("{save} × ({value} − {offer}) − {contact}"),
                    ),
                    of(
                        "the offer, to one who would stay",
                        Some(false),
                        payoffs.act.other,
                        format!("−{take} × {offer} − {contact}"),
                    ),
                    left_alone("not acted on"),
                ]
            }
            Self::Credit(a) => {
                let earned = yearly(a.margin, (a.years, a.discount), a.earned());
                let (owed, lost, review) = (money(a.exposure), money(a.lost()), money(a.review_cost));
                let refer = payoffs.refer.unwrap_or_default();
                vec![
                    of(
                        "approved, and it goes bad",
                        Some(true),
                        payoffs.leave.event,
                        format!("−{} × {owed}", chance(a.loss_rate)),
                    ),
                    of("approved, and it is paid back", Some(false), payoffs.leave.other, String::new()),
                    of(
                        "referred, would go bad",
                        Some(true),
                        refer.event,
                        format!("−{} × {lost} − {review}", chance(1.0 - a.review_finds)),
                    ),
                    of(
                        "referred, would be paid back",
                        Some(false),
                        refer.other,
                        format!("{} × {earned} − {review}", chance(1.0 - a.review_stops)),
                    ),
                    left_alone("declined"),
                ]
            }
            Self::Response(a) => {
                let (margin, contact) = (money(a.margin), money(a.contact_cost));
                let brought = match a.incentive {
                    0.0 => margin.clone(),
                    given if a.reach == 1.0 => format!("{margin} − {}", money(given)),
                    given => format!("({margin} − {})", money(given)),
                };
                let brought = match a.reach {
                    1.0 => brought,
                    reach => {
                        let anyway = money(payoffs.leave.event);
                        format!("{} × {brought} + {} × {anyway}", chance(reach), chance(1.0 - reach))
                    }
                };
                vec![
                    of(
                        if a.reach == 1.0 { "contacted, and answers" } else { "contacted, one who would answer" },
                        Some(true),
                        payoffs.act.event,
                        format!("{brought} − {contact}"),
                    ),
                    of("contacted, and does not", Some(false), payoffs.act.other, format!("−{contact}")),
                    alone(of(
                        "not contacted, would have answered",
                        Some(true),
                        payoffs.leave.event,
                        format!("{} × {margin}", chance(a.anyway)),
                    )),
                ]
            }
            Self::Plain(_) => vec![
                of("acted on, with the event", Some(true), payoffs.act.event, String::new()),
                of("acted on, without", Some(false), payoffs.act.other, String::new()),
                alone(of("not acted on, with the event", Some(true), payoffs.leave.event, String::new())),
                alone(of("not acted on, without", Some(false), payoffs.leave.other, String::new())),
            ],
        }
    }
}

fn money(amount: f64) -> String {
    if amount == amount.trunc() { number::fixed(amount, 0) } else { number::fixed(amount, 2) }
}

fn chance(share: f64) -> String {
    format!("{}{}%", number::plain((share * 1e4).round() / 100.0), number::THIN)
}

/// An amount of a year, or what comes of it in several.
fn yearly(a_year: f64, (years, discount): (f64, f64), in_all: f64) -> String {
    if years == 1.0 && discount == 0.0 {
        return money(a_year);
    }
    money((in_all * 100.0).round() / 100.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::question::Question;

    /// What a formula as it is written comes to.
    fn worked_out(formula: &str) -> f64 {
        let plain: String = formula.chars().filter(|c| *c != number::THIN).collect();
        let text = plain.replace('−', "-").replace('×', "*").replace('%', "/100");
        let expression = pronoia_data::expression::Expression::check(&text, &[]).expect("a formula");
        let mut row = pronoia_data::table::ColumnBuilder::new("x", pronoia_data::Kind::Number);
        row.push_number(0.0);
        let table = pronoia_data::Table::new(vec![row.finish()]).expect("one row");
        expression.column("worth", &table).expect("worked out").0.number(0).expect("a number")
    }

    #[test]
    fn formulas_as_they_are_written_come_to_what_is_said() {
        for question in Question::ALL {
            for outcome in Economics::usual(question).outcomes() {
                if !outcome.formula.is_empty() {
                    let found = worked_out(&outcome.formula);
                    assert!((found - outcome.worth).abs() < 0.005, "{outcome:?}: {found}");
                }
            }
        }
        let by_post = Economics::usual(Question::Response).with("reach", 0.6).with("incentive", 5.0);
        let outcome = &by_post.outcomes()[0];
        assert!((worked_out(&outcome.formula) - outcome.worth).abs() < 0.005, "{outcome:?}");
        let longer = Economics::usual(Question::Churn).with("years", 3.0).with("discount", 0.1);
        let outcome = &longer.outcomes()[0];
        assert!(outcome.formula.contains("373.03"), "{outcome:?}");
        assert!((worked_out(&outcome.formula) - outcome.worth).abs() < 0.005, "{outcome:?}");
    }
}
