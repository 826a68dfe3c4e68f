//! What an amount is: its words, its unit, and what it may be.

use serde::Serialize;

/// What an assumption is counted in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum AssumptionUnit {
    /// A chance, 0 to 1.
    Chance,
    /// By what share a year's money is worth less than the year's before, 0 to 1.
    Rate,
    /// Money that is brought or spent, 0 or more.
    Amount,
    /// Money, gained or lost.
    Balance,
    /// Years, more than none.
    Years,
}

/// One of the amounts behind the payoffs.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Assumption {
    /// The word for it in forms and files.
    pub word: &'static str,
    /// Its name.
    pub name: &'static str,
    /// What it is counted in.
    pub unit: AssumptionUnit,
    /// What it is until somebody says otherwise.
    #[serde(skip)]
    pub usual: f64,
    /// Whether a file may leave it out.
    #[serde(skip)]
    pub optional: bool,
    /// Whether it may differ between several offers to the same customer.
    #[serde(skip)]
    pub of_offer: bool,
}

/// More money than any amount is.
const MOST: f64 = 1e12;

/// The longest time that money is looked ahead.
const LONGEST: f64 = 50.0;

/// The shortest, about a day.
const SHORTEST: f64 = 0.002;

impl Assumption {
    /// One that has to be said.
    pub(super) const fn of(word: &'static str, name: &'static str, unit: AssumptionUnit, usual: f64) -> Self {
        Self { word, name, unit, usual, optional: false, of_offer: false }
    }

    /// One that stays as it usually is unless somebody says otherwise.
    pub(super) const fn usually(word: &'static str, name: &'static str, unit: AssumptionUnit, usual: f64) -> Self {
        Self { word, name, unit, usual, optional: true, of_offer: false }
    }

    /// One that may differ between several offers.
    pub(super) const fn of_offer(self) -> Self {
        Self { of_offer: true, ..self }
    }

    /// What it may be.
    pub(super) fn range(&self) -> std::ops::RangeInclusive<f64> {
        match self.unit {
            AssumptionUnit::Chance | AssumptionUnit::Rate => 0.0..=1.0,
            AssumptionUnit::Amount => 0.0..=MOST,
            AssumptionUnit::Balance => -MOST..=MOST,
            AssumptionUnit::Years => SHORTEST..=LONGEST,
        }
    }

    /// Whether it may be that.
    pub fn is_possible(&self, value: f64) -> bool {
        self.range().contains(&value)
    }

    /// What it may be that comes nearest.
    pub fn nearest_possible(&self, value: f64) -> f64 {
        value.clamp(*self.range().start(), *self.range().end())
    }

    /// Whether profit is a straight line in it, all other things being equal.
    pub fn is_linear(&self) -> bool {
        !matches!(self.unit, AssumptionUnit::Rate | AssumptionUnit::Years)
    }
}
