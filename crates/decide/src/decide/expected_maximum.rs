//! Expected maximum profit: how much a model allows to be earned while one chance is uncertain.

use statrs::distribution::{Beta, ContinuousCDF};

use super::assumption::AssumptionUnit;
use super::economics::Economics;
use super::population::Population;
use super::ranking::Ranking;

/// A chance that is not known for certain: a beta distribution with this mean, as sure as so many
/// customers counted would make it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Uncertain {
    /// The mean, between 0 and 1.
    pub mean: f64,
    /// The two parameters of the distribution together.
    pub counted: f64,
}

impl Uncertain {
    /// With both parameters of the beta distribution.
    pub fn beta(alpha: f64, beta: f64) -> Self {
        Self { mean: alpha / (alpha + beta), counted: alpha + beta }
    }
}

/// The chance that is least certain in each question, by its word.
const LEAST_CERTAIN: [&str; 3] = ["save_rate", "loss_rate", "anyway"];

/// How sure it is taken to be: as if so many customers had been counted (as Verbraken, Verbeke &
/// Baesens 2013 take it).
const COUNTED: f64 = 20.0;

/// [`expected_maximum`] where the chance that is least certain in the question is so around the
/// value that was chosen for it; none for questions without such a chance.
pub fn expected_maximum_of(ranking: &Ranking, economics: &Economics<f64>, population: &Population) -> Option<f64> {
    LEAST_CERTAIN.iter().find_map(|word| {
        let mean = *economics.amount(word)?;
        expected_maximum(ranking, economics, (word, Uncertain { mean, counted: COUNTED }), population)
    })
}

/// Expected maximum profit for a population, counted over leaving everybody alone: for every value
/// that an uncertain chance may have, the best cut-off is chosen again, and what it gains is
/// averaged (Verbraken, Verbeke & Baesens 2013, definition 4, with our own gains).
///
/// It compares models; nobody earns it, since nobody knows the chance when the cut-off is chosen.
/// Gains are straight lines in the chance, so that their highest is a chain of lines and the
/// average needs no numerical integration.
///
/// None if the question has no such chance, or it is certain already.
pub fn expected_maximum(
    ranking: &Ranking,
    economics: &Economics<f64>,
    (word, chance): (&str, Uncertain),
    population: &Population,
) -> Option<f64> {
    economics
        .amounts()
        .iter()
        .find(|(assumption, _)| assumption.word == word && assumption.unit == AssumptionUnit::Chance)?;
    let (alpha, beta) = (chance.mean * chance.counted, (1.0 - chance.mean) * chance.counted);
    let below = Beta::new(alpha, beta).ok()?;
    let weighted = Beta::new(alpha + 1.0, beta).ok()?;
    let weights = population.weights(ranking.rows as f64, ranking.events as f64);
    let gains = [0.0, 1.0].map(|value| economics.with(word, value).payoffs().gain());
    // At every stand, what is gained at chances 0 and 1.
    let ends = ranking.stands.iter().map(|stand| {
        let (events, others) = (stand.events as f64, (stand.acted - stand.events) as f64);
        gains.map(|gain| gain.event * events * weights.event + gain.other * others * weights.other)
    });
    let chain = highest(ends.map(|[at_0, at_1]| GainLine { at_0, slope: at_1 - at_0 }).collect());
    let part = |(at, line): (usize, &GainLine)| {
        let from = if at == 0 { 0.0 } else { line.crosses(&chain[at - 1]) };
        let to = chain.get(at + 1).map_or(1.0, |next| next.crosses(line));
        let between = |of: &Beta| of.cdf(to.clamp(0.0, 1.0)) - of.cdf(from.clamp(0.0, 1.0));
        line.at_0 * between(&below) + line.slope * chance.mean * between(&weighted)
    };
    Some(chain.iter().enumerate().map(part).sum())
}

/// A gain as a function of the chance.
#[derive(Debug, Clone, Copy)]
struct GainLine {
    at_0: f64,
    slope: f64,
}

impl GainLine {
    /// Where it meets a line of another slope.
    fn crosses(&self, other: &Self) -> f64 {
        (other.at_0 - self.at_0) / (self.slope - other.slope)
    }
}

/// The lines of which one is the highest somewhere, by slope.
fn highest(mut lines: Vec<GainLine>) -> Vec<GainLine> {
    lines.sort_by(|a, b| a.slope.total_cmp(&b.slope).then(a.at_0.total_cmp(&b.at_0)));
    let mut chain: Vec<GainLine> = Vec::new();
    for line in lines {
        if chain.last().is_some_and(|last| last.slope == line.slope) {
            chain.pop();
        }
        while let [.., before, last] = chain[..]
            && line.crosses(&last) <= last.crosses(&before)
        {
            chain.pop();
        }
        chain.push(line);
    }
    chain
}
