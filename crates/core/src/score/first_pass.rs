//! What has to be known of a whole list before any of its customers is decided on.

use super::scored::{By, Scoring};
use super::settled::Settled;
use pronoia_data::Table;
use pronoia_decide::decide::{Front, LeastKey};

/// Customers of the list that reasons are counted from on average.
const BACKGROUND: usize = 200;

/// The customers of a list met before it is decided on, part by part.
#[derive(Debug)]
pub struct Ahead {
    /// Those who come first by the rule, where it counts customers or money.
    front: Option<Front>,
    /// The cut where it does not.
    cut: Option<LeastKey>,
    /// Every so many rows, one is kept for reasons to be counted from; nobody is where it is 0.
    every: u64,
    met: u64,
    background: Table,
}

impl Scoring<'_> {
    /// Nobody of a list of so many rows met yet.
    pub fn ahead(&self, rows: usize) -> Ahead {
        let rule = self.by.as_ref().map(By::rule);
        let cut = rule.as_ref().and_then(|rule| rule.fixed_cut());
        let front = rule.filter(|_| cut.is_none()).map(|rule| Front::of(&rule, rows, rows as f64));
        let every = if self.extras.reasons > 0 { (rows.div_ceil(BACKGROUND) as u64).max(1) } else { 0 };
        Ahead { front, cut, every, met: 0, background: Table::default() }
    }
}

impl Ahead {
    /// Whether anything has to be known; where not, the list need not be met before.
    pub fn is_needed(&self) -> bool {
        self.front.is_some() || self.every > 0
    }

    /// Meets a part of the list; parts are met in their order. Whoever is not to be contacted, as
    /// `suppressed` says (it may be empty), takes nobody's place.
    ///
    /// # Errors
    /// As [`Scoring::of`].
    pub fn meet(&mut self, scoring: &Scoring, matched: &Table, suppressed: &[bool]) -> Result<(), String> {
        let told = if self.front.is_some() { scoring.probabilities(matched)? } else { Vec::new() };
        self.meet_told(scoring, matched, suppressed, &told)
    }

    /// As [`Ahead::meet`], with the probabilities of the part.
    pub(super) fn meet_told(
        &mut self,
        scoring: &Scoring,
        matched: &Table,
        suppressed: &[bool],
        told: &[f64],
    ) -> Result<(), String> {
        if let (Some(front), Some(by)) = (&mut self.front, scoring.by) {
            let weighed = by.weighed(matched, told)?;
            let order = by.rule().by;
            let may_be_contacted = |row: &usize| suppressed.get(*row) != Some(&true);
            for (row, &p) in told.iter().enumerate().filter(|(row, _)| may_be_contacted(row)) {
                let payoffs = weighed.payoffs_of(row);
                front.meet(order.key(p, &payoffs), payoffs.spent.expected(p), p);
            }
        }
        if self.every > 0 {
            let more = matched.every_nth(self.met, self.every);
            self.background = match self.met {
                0 => more,
                _ => Table::concat(&[std::mem::take(&mut self.background), more])?,
            };
            self.met += matched.rows() as u64;
        }
        Ok(())
    }

    /// What the parts are decided by, once all were met.
    pub fn settled(self) -> Settled {
        Settled { cut: self.cut.or(self.front.map(Front::cut)), background: self.background }
    }
}
