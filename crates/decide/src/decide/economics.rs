//! The money of a decision, in the words of the question.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::amount::{Amount, AmountError, AmountValues};
use super::assumption::{Assumption, AssumptionUnit};
use super::payoff::Payoffs;
use super::terms::{Churn, Credit, PayoffTable, ResponseTerms};
use crate::question::Question;
use pronoia_data::Table;

/// The amounts of a question: as they were chosen, for each of some customers, or for one.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind", bound(deserialize = "A: Deserialize<'de> + From<f64>"))]
pub enum Economics<A = Amount> {
    /// An offer to customers who may leave.
    Churn(Churn<A>),
    /// Lending to customers who may not pay back.
    Credit(Credit<A>),
    /// A contact with customers who may answer.
    Response(ResponseTerms<A>),
    /// Payoffs given outright.
    Plain(PayoffTable<A>),
}

/// An amount that cannot be.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum EconomicsError {
    /// Not a share.
    #[error("“{name}” must be between 0 and 100 %; it is {value} %{whose}.")]
    Share {
        /// Which amount.
        name: &'static str,
        /// Its value as per cent.
        value: f64,
        /// For whom, if not for everybody.
        whose: &'static str,
    },
    /// Not an amount of money, or time.
    #[error("“{name}” must be {range}; it is {value}{whose}.")]
    Amount {
        /// Which amount.
        name: &'static str,
        /// What is allowed.
        range: &'static str,
        /// Its value.
        value: f64,
        /// For whom, if not for everybody.
        whose: &'static str,
    },
    /// Not to be worked out.
    #[error("“{name}”: {why}")]
    Formula {
        /// Which amount.
        name: &'static str,
        /// What is wrong.
        why: AmountError,
    },
    /// Offers that cannot stand beside each other.
    #[error("{why}")]
    Offers {
        /// Why not.
        why: String,
    },
    /// An amount of an offer other than the first.
    #[error("“{offer}”: {wrong}")]
    OfOffer {
        /// The offer.
        offer: String,
        /// What is wrong with it.
        wrong: Box<EconomicsError>,
    },
}

impl EconomicsError {
    pub(super) fn of_offer(self, offer: &str) -> Self {
        Self::OfOffer { offer: offer.to_owned(), wrong: Box::new(self) }
    }
}

impl<A> Economics<A> {
    /// The amounts behind the payoffs, in the order in which they are asked for.
    pub fn amounts(&self) -> Vec<(Assumption, &A)> {
        fn named<const N: usize, A>(all: [Assumption; N], amounts: [&A; N]) -> Vec<(Assumption, &A)> {
            all.into_iter().zip(amounts).collect()
        }
        match self {
            Self::Churn(a) => named(Churn::<A>::ASSUMPTIONS, a.amounts()),
            Self::Credit(a) => named(Credit::<A>::ASSUMPTIONS, a.amounts()),
            Self::Response(a) => named(ResponseTerms::<A>::ASSUMPTIONS, a.amounts()),
            Self::Plain(a) => named(PayoffTable::<A>::ASSUMPTIONS, a.amounts()),
        }
    }

    /// The same question with other amounts, each made from the one that is there.
    pub fn map<B>(&self, mut of: impl FnMut(&Assumption, &A) -> B) -> Economics<B> {
        fn each<const N: usize, A, B>(
            all: [Assumption; N],
            amounts: [&A; N],
            of: &mut impl FnMut(&Assumption, &A) -> B,
        ) -> [B; N] {
            std::array::from_fn(|at| of(&all[at], amounts[at]))
        }
        match self {
            Self::Churn(a) => Economics::Churn(Churn::of(each(Churn::<A>::ASSUMPTIONS, a.amounts(), &mut of))),
            Self::Credit(a) => Economics::Credit(Credit::of(each(Credit::<A>::ASSUMPTIONS, a.amounts(), &mut of))),
            Self::Response(a) => {
                Economics::Response(ResponseTerms::of(each(ResponseTerms::<A>::ASSUMPTIONS, a.amounts(), &mut of)))
            }
            Self::Plain(a) => {
                Economics::Plain(PayoffTable::of(each(PayoffTable::<A>::ASSUMPTIONS, a.amounts(), &mut of)))
            }
        }
    }

    /// What may differ between several offers to the same customer.
    pub fn amounts_of_offers(&self) -> Vec<Assumption> {
        self.amounts().into_iter().map(|(assumption, _)| assumption).filter(|assumption| assumption.of_offer).collect()
    }

    /// The name of an amount by its word; the word itself if the question does not ask for it.
    pub fn name_of<'w>(&self, word: &'w str) -> &'w str {
        self.amounts().into_iter().find(|(there, _)| there.word == word).map_or(word, |(there, _)| there.name)
    }

    /// The amount by a word; none if the question does not ask for it.
    pub fn amount(&self, word: &str) -> Option<&A> {
        self.amounts().into_iter().find(|(assumption, _)| assumption.word == word).map(|(_, amount)| amount)
    }
}

impl<A: Clone> Economics<A> {
    /// The same with another value for one assumption; one of another question changes nothing.
    #[must_use]
    pub fn with(&self, word: &str, amount: A) -> Self {
        self.map(|assumption, there| if assumption.word == word { amount.clone() } else { there.clone() })
    }
}

impl Economics<f64> {
    /// The usual beginnings for a question.
    pub fn usual(question: Question) -> Self {
        let nothing = match question {
            Question::Churn => Self::Churn(Churn::of([0.0; 7])),
            Question::Credit => Self::Credit(Credit::of([0.0; 8])),
            Question::Response => Self::Response(ResponseTerms::of([0.0; 5])),
            Question::Other => Self::Plain(PayoffTable::of([0.0; 4])),
        };
        nothing.map(|assumption, _| assumption.usual)
    }

    /// What one customer is worth.
    pub fn payoffs(&self) -> Payoffs {
        match self {
            Self::Churn(a) => a.payoffs(),
            Self::Credit(a) => a.payoffs(),
            Self::Response(a) => a.payoffs(),
            Self::Plain(a) => a.payoffs(),
        }
    }

    /// The same amounts for everybody, as a choice.
    pub fn chosen(&self) -> Economics {
        self.map(|_, amount| Amount::Same(*amount))
    }
}

impl Economics {
    /// Whether every amount is the same for everybody.
    pub fn is_same_for_all(&self) -> bool {
        self.amounts().iter().all(|(_, amount)| amount.formula().is_none())
    }

    /// The amounts of a customer who is average in every one.
    pub fn typical(&self) -> Economics<f64> {
        self.map(|_, amount| amount.typical())
    }

    /// The columns that the amounts are worked out from, each once.
    pub fn inputs(&self) -> Vec<String> {
        let mut inputs: Vec<String> = Vec::new();
        for (_, amount) in self.amounts() {
            let read = amount.formula().into_iter().flat_map(|formula| formula.expression.inputs());
            for name in read {
                if !inputs.iter().any(|there| there == name) {
                    inputs.push(name.to_owned());
                }
            }
        }
        inputs
    }

    /// Checks every amount that is the same for everybody.
    ///
    /// # Errors
    /// [`EconomicsError`] for the first that cannot be.
    pub fn check(&self) -> Result<(), EconomicsError> {
        for (assumption, amount) in self.amounts() {
            if let Amount::Same(value) = amount {
                possible(&assumption, *value, "")?;
            }
        }
        Ok(())
    }

    /// Works out every amount for rows of a table, and writes down in the choice what formulas
    /// come to on average; also for how many rows one of them had no value, who are given the mean
    /// of the others.
    ///
    /// # Errors
    /// [`EconomicsError`] for the first amount that cannot be, for anybody.
    pub fn worked_out(
        &mut self,
        table: &Table,
        rows: &[usize],
    ) -> Result<(Economics<AmountValues>, u64), EconomicsError> {
        let (values, lacking) = self.values(|assumption, amount| assumption.worked_out(amount, table, rows))?;
        let means: Vec<f64> = values.amounts().iter().map(|(_, values)| values.mean()).collect();
        let mut means = means.into_iter();
        *self = self.map(|_, amount| {
            let mut amount = amount.clone();
            means.next().into_iter().for_each(|mean| amount.note_mean(mean));
            amount
        });
        Ok((values, lacking))
    }

    /// Every amount worked out in some way, and the most rows that lacked one of them.
    ///
    /// # Errors
    /// The first that there is.
    pub(super) fn values(
        &self,
        mut of: impl FnMut(&Assumption, &Amount) -> Result<(AmountValues, u64), EconomicsError>,
    ) -> Result<(Economics<AmountValues>, u64), EconomicsError> {
        let (mut wrong, mut lacking) = (None, 0);
        let values = self.map(|assumption, amount| match of(assumption, amount) {
            Ok((values, without)) => {
                lacking = lacking.max(without);
                values
            }
            Err(why) => {
                wrong.get_or_insert(why);
                AmountValues::Same(0.0)
            }
        });
        wrong.map_or(Ok((values, lacking)), Err)
    }
}

impl Economics<AmountValues> {
    /// What one customer is worth.
    pub fn payoffs_of(&self, customer: usize) -> Payoffs {
        self.map(|_, values| values.of(customer)).payoffs()
    }

    /// Whether every amount is the same for everybody.
    pub fn is_same_for_all(&self) -> bool {
        self.amounts().iter().all(|(_, values)| matches!(values, AmountValues::Same(_)))
    }

    /// The amounts of a customer who is average in every one.
    pub fn typical(&self) -> Economics<f64> {
        self.map(|_, values| values.mean())
    }
}

impl Assumption {
    /// Works out an amount of this kind for rows of a table; also for how many it had no value, who
    /// are given the mean of the others.
    ///
    /// # Errors
    /// [`EconomicsError`] if it cannot be that, for anybody.
    pub(super) fn worked_out(
        &self,
        amount: &Amount,
        table: &Table,
        rows: &[usize],
    ) -> Result<(AmountValues, u64), EconomicsError> {
        let formula = |why| EconomicsError::Formula { name: self.name, why };
        let (values, without) = amount.values(table, rows).map_err(formula)?;
        let (least, most) = values.range();
        let whose = if amount.formula().is_some() { " for one of the customers" } else { "" };
        possible(self, least, whose)?;
        possible(self, most, whose)?;
        Ok((values, without))
    }

    /// Works out an amount of this kind for every row of a list; also for how many it has no value
    /// that it may be, who are given what it came to on average when it was chosen.
    ///
    /// # Errors
    /// [`EconomicsError`] if it cannot be worked out on this table.
    pub(super) fn applied(&self, amount: &Amount, list: &Table) -> Result<(AmountValues, u64), EconomicsError> {
        amount
            .applied(list, |value| self.is_possible(value))
            .map_err(|why| EconomicsError::Formula { name: self.name, why })
    }
}

fn possible(assumption: &Assumption, value: f64, whose: &'static str) -> Result<(), EconomicsError> {
    if assumption.is_possible(value) {
        return Ok(());
    }
    let name = assumption.name;
    Err(match assumption.unit {
        AssumptionUnit::Chance | AssumptionUnit::Rate => EconomicsError::Share { name, value: value * 100.0, whose },
        AssumptionUnit::Amount => EconomicsError::Amount { name, range: "an amount of 0 or more", value, whose },
        AssumptionUnit::Balance => EconomicsError::Amount { name, range: "a finite amount", value, whose },
        AssumptionUnit::Years => EconomicsError::Amount { name, range: "a time of up to 50 years", value, whose },
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use pronoia_data::Kind;
    use pronoia_data::expression::Expression;
    use pronoia_data::table::ColumnBuilder;

    fn fees(fees: &[Option<f64>]) -> Table {
        let mut column = ColumnBuilder::new("fee", Kind::Number);
        for fee in fees {
            match fee {
                Some(fee) => column.push_number(*fee),
                None => column.push_missing(),
            }
        }
        Table::new(vec![column.finish()]).expect("a table")
    }

    #[test]
    fn impossible_amounts_are_named() {
        let economics = Economics::usual(Question::Churn).with("save_rate", 1.2).chosen();
        let error = economics.check().expect_err("over 100 %").to_string();
        assert!(error.contains("Save rate") && error.contains("120"), "{error}");
        assert!(economics.with("save_rate", Amount::Same(f64::NAN)).check().is_err());
        assert!(economics.with("save_rate", Amount::Same(0.2)).check().is_ok());
        let error = economics.with("save_rate", 0.2.into()).with("years", 0.0.into()).check().expect_err("no time");
        assert!(error.to_string().contains("up to 50 years"), "{error}");
    }

    #[test]
    fn amounts_may_be_worked_out_from_the_columns_of_each_customer() {
        let table = fees(&[Some(100.0), None, Some(300.0), Some(999.0)]);
        let columns = Expression::columns_of(&table);
        let mut economics = Economics::usual(Question::Churn)
            .chosen()
            .with("value_kept", Amount::typed("fee * 0.5", &columns).expect("a formula"));
        assert!(!economics.is_same_for_all());
        assert_eq!(economics.inputs(), ["fee"]);
        let (values, lacking) = economics.worked_out(&table, &[0, 1, 2]).expect("worked out");
        assert_eq!(lacking, 1, "who is given the mean of the others");
        let value = |customer| *values.amount("value_kept").map(|v| v.of(customer)).as_ref().expect("an amount");
        assert_eq!([value(0), value(1), value(2)], [50.0, 100.0, 150.0]);
        assert_eq!(economics.typical().amount("value_kept"), Some(&100.0));
        let stored = serde_json::to_string(&economics).expect("written");
        assert_eq!(serde_json::from_str::<Economics>(&stored).expect("read"), economics);
        for customer in 0..3 {
            let by_hand = Economics::usual(Question::Churn).with("value_kept", value(customer)).payoffs();
            assert_eq!(values.payoffs_of(customer), by_hand);
        }
    }

    #[test]
    fn a_formula_that_cannot_be_is_refused_in_words() {
        let table = fees(&[Some(0.3), Some(40.0)]);
        let columns = Expression::columns_of(&table);
        let refused = |word: &str, sql: &str| {
            let amount = Amount::typed(sql, &columns).expect("an expression");
            let mut economics = Economics::usual(Question::Churn).chosen().with(word, amount);
            economics.worked_out(&table, &[0, 1]).expect_err("refused").to_string()
        };
        let said = refused("save_rate", "fee");
        assert!(said.contains("4000 % for one of the customers"), "{said}");
        let said = refused("offer_cost", "fee / 0");
        assert!(said.contains("no value for any"), "{said}");
        let said = Amount::typed("'much'", &columns).expect_err("text").to_string();
        assert!(said.contains("has to be a number"), "{said}");
        let said = Amount::typed("fees + 1", &columns).expect_err("no such column").to_string();
        assert!(said.contains("fees"), "{said}");
    }
}
