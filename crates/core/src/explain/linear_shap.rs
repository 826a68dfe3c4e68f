//! Exact reasons of families that add up what each column says.

use super::{Reasons, ScoreUnit, ShapleyMethod};
use pronoia_learn::learn::Estimator;
use pronoia_learn::learn::scorecard::CardPair;
use pronoia_learn::prepare::Design;

/// What features say of every row, by the column that they were made of.
type FeatureContributions<'m> = Box<dyn Fn(&Design) -> Vec<(String, Vec<f64>)> + 'm>;

/// A classifier as a sum.
pub(super) struct AdditiveModel<'m> {
    unit: ScoreUnit,
    start: f64,
    says: FeatureContributions<'m>,
    pairs: &'m [CardPair],
}

/// The classifier as a sum, if it is one.
pub(super) fn of(estimator: &Estimator) -> Option<AdditiveModel<'_>> {
    let plain = |unit, start, says| AdditiveModel { unit, start, says, pairs: &[] };
    Some(match estimator {
        Estimator::Logistic(m) => plain(ScoreUnit::LogOdds, m.intercept, Box::new(|design| m.contributions(design))),
        Estimator::Svm(m) => plain(ScoreUnit::Distance, m.intercept, Box::new(|design| m.contributions(design))),
        Estimator::Bayes(m) => plain(ScoreUnit::LogOdds, m.prior, Box::new(|design| m.contributions(design))),
        Estimator::Scorecard(m) => AdditiveModel {
            unit: ScoreUnit::LogOdds,
            start: m.intercept,
            says: Box::new(|design| m.contributions(design)),
            pairs: &m.pairs,
        },
        _ => return None,
    })
}

impl AdditiveModel<'_> {
    /// What a column says of a customer less what it says of the background on average; what a pair
    /// of columns says is divided between them.
    pub fn reasons(&self, customers: &Design, background: &Design, columns: &[String]) -> Reasons {
        let place = |column: &String| columns.iter().position(|name| name == column);
        let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len().max(1) as f64;
        let mut of = vec![vec![0.0; columns.len()]; customers.rows()];
        let mut base = self.start;
        for ((column, said), (_, usual)) in (self.says)(customers).into_iter().zip((self.says)(background)) {
            let usual = mean(&usual);
            base += usual;
            if let Some(at) = place(&column) {
                of.iter_mut().zip(said).for_each(|(reasons, said)| reasons[at] += said - usual);
            }
        }
        for pair in self.pairs {
            let (here, others) = (pair.groups_of(customers), pair.groups_of(background));
            let rows = others.len().max(1) as f64;
            let usual = others.iter().map(|&[a, b]| pair.says(a, b)).sum::<f64>() / rows;
            base += usual;
            let [Some(first), Some(second)] = pair.columns.each_ref().map(place) else { continue };
            for (reasons, &[a, b]) in of.iter_mut().zip(&here) {
                let both = pair.says(a, b);
                let knowing_first = others.iter().map(|&[_, other]| pair.says(a, other)).sum::<f64>() / rows;
                let knowing_second = others.iter().map(|&[other, _]| pair.says(other, b)).sum::<f64>() / rows;
                reasons[first] += 0.5 * ((knowing_first - usual) + (both - knowing_second));
                reasons[second] += 0.5 * ((knowing_second - usual) + (both - knowing_first));
            }
        }
        let scores = of.iter().map(|reasons| base + reasons.iter().sum::<f64>()).collect();
        let (unit, method) = (self.unit, ShapleyMethod::Sum);
        Reasons { unit, method, columns: vec![], base, of, errors: None, scores, probability: vec![] }
    }
}
