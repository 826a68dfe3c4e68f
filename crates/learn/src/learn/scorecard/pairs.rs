//! Two columns that say together what neither says alone.
//!
//! Once a card is fitted, what it leaves over is looked at in the cells that the groups of two
//! columns make. What rows and columns of those cells explain by themselves is taken off; a pair
//! whose cells still differ by more than chance may speak (Lou, Caruana, Gehrke and Hooker 2013,
//! “Accurate intelligible models with pairwise interactions”).

use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use statrs::distribution::{ChiSquared, ContinuousCDF};

use super::groups::ScorecardBins;
use crate::learn::Target;
use crate::prepare::{Design, FeatureValues};
use pronoia_data::drivers::band_edges;
use pronoia_data::stats::sigmoid;

/// Bands of a number in a pair.
const BANDS: usize = 5;

/// Levels that have a group of their own in a pair.
const MOST_LEVELS: usize = 12;

/// The chance that the cells of any pair among all that are looked at differ so much by themselves.
const CHANCE: f64 = 0.01;

/// What a cell is drawn towards nothing by: the information of about so many coin tosses, four for
/// each.
const DRAWN: f64 = 2.0;

/// Rounds in which what rows and columns of the cells explain is found.
const ROUNDS: usize = 8;

/// A pair on the card.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CardPair {
    /// Positions of the features in the design.
    pub features: [usize; 2],
    /// The columns.
    pub columns: [String; 2],
    /// The groups of either.
    pub groups: [ScorecardBins; 2],
    /// What every cell says: for every group of the first column, and for its missing values, the
    /// groups of the second and its missing values.
    pub evidence: Vec<f64>,
    /// What the evidence is multiplied by.
    pub weight: f64,
}

impl CardPair {
    /// What the cell of every row says.
    pub fn evidence(&self, design: &Design) -> Vec<f64> {
        self.groups_of(design).into_iter().map(|[first, second]| self.evidence[self.cell(first, second)]).collect()
    }

    /// The groups of every row, the last ones for missing values.
    pub fn groups_of(&self, design: &Design) -> Vec<[usize; 2]> {
        let [first, second] = self.features.map(|at| &design.features()[at].values);
        (0..design.rows()).map(|row| [self.groups[0].of(first, row), self.groups[1].of(second, row)]).collect()
    }

    /// What a cell adds to the log-odds.
    pub fn says(&self, first: usize, second: usize) -> f64 {
        self.weight * self.evidence[self.cell(first, second)]
    }

    fn cell(&self, first: usize, second: usize) -> usize {
        first * (self.groups[1].len() + 1) + second
    }
}

/// A column as a side of a pair.
struct PairSide {
    feature: usize,
    column: String,
    groups: ScorecardBins,
    /// The group of every row.
    of_row: Vec<u16>,
}

/// The columns of a design as sides of pairs.
pub(super) struct Pairs(Vec<PairSide>);

impl Pairs {
    /// Cuts the columns; a group holds at least so many rows.
    pub fn of(design: &Design, least: u64) -> Self {
        let features = design.features().par_iter().enumerate();
        let sides = features.filter_map(|(feature, f)| {
            let groups = match &f.values {
                FeatureValues::Number(values) => {
                    let there = values.iter().copied().filter(|x| !x.is_nan());
                    ScorecardBins::of_numbers(band_edges(there, BANDS), values)
                }
                FeatureValues::Levels { count, codes } => {
                    ScorecardBins::Levels { group: own_groups(*count, codes, least) }
                }
            };
            let of_row: Vec<u16> = (0..design.rows()).map(|row| groups.of(&f.values, row) as u16).collect();
            let differs = of_row.iter().any(|group| *group != of_row[0]);
            differs.then(|| PairSide { feature, column: f.column.clone(), groups, of_row })
        });
        Self(sides.collect())
    }

    /// The pair that says most of what these log-odds leave over, none of those
    /// that speak already; none if no pair clearly says anything.
    pub fn most_telling(&self, log_odds: &[f64], target: &Target, speaking: &[CardPair]) -> Option<CardPair> {
        let left: Vec<[f64; 2]> = (0..target.rows())
            .map(|row| {
                let (p, weight) = (sigmoid(log_odds[row]), target.weight(row));
                [weight * (f64::from(u8::from(target.event[row])) - p), weight * p * (1.0 - p)]
            })
            .collect();
        let count = self.0.len();
        let pairs = (0..count).flat_map(|a| (a + 1..count).map(move |b| (a, b)));
        let new = |&(a, b): &(usize, usize)| {
            speaking.iter().all(|pair| pair.features != [self.0[a].feature, self.0[b].feature])
        };
        let pairs: Vec<(usize, usize)> = pairs.filter(new).collect();
        let looked_at = (count * count.saturating_sub(1) / 2) as f64;
        let found: Vec<Option<(f64, Vec<[f64; 2]>)>> = pairs
            .par_iter()
            .map(|&(a, b)| {
                let cells = self.cells(a, b, &left);
                let (statistic, freedom) = apart(&cells, self.0[b].groups.len() + 1);
                let chance = ChiSquared::new(freedom).map_or(1.0, |law| law.sf(statistic));
                (chance * looked_at < CHANCE).then_some((statistic - freedom, cells))
            })
            .collect();
        let best = pairs.iter().zip(found).filter_map(|(pair, found)| found.map(|found| (pair, found)));
        // Of those that say as much the first, whatever the number of threads.
        let (&(a, b), (_, cells)) = best.reduce(|best, next| if next.1.0 > best.1.0 { next } else { best })?;
        let (first, second) = (&self.0[a], &self.0[b]);
        Some(CardPair {
            features: [first.feature, second.feature],
            columns: [first.column.clone(), second.column.clone()],
            groups: [first.groups.clone(), second.groups.clone()],
            evidence: cells.iter().map(|[over, information]| over / (information + DRAWN)).collect(),
            weight: 1.0,
        })
    }

    /// What is left over in every cell, and how much it informs.
    fn cells(&self, a: usize, b: usize, left: &[[f64; 2]]) -> Vec<[f64; 2]> {
        let (first, second) = (&self.0[a], &self.0[b]);
        let width = second.groups.len() + 1;
        let mut cells = vec![[0.0; 2]; (first.groups.len() + 1) * width];
        for ((&i, &j), [over, information]) in first.of_row.iter().zip(&second.of_row).zip(left) {
            let cell = &mut cells[usize::from(i) * width + usize::from(j)];
            cell[0] += over;
            cell[1] += information;
        }
        cells
    }
}

/// A group for every level with enough rows, the most frequent of them, and one for all others.
fn own_groups(count: usize, codes: &[u32], least: u64) -> Vec<u16> {
    let mut rows = vec![0u64; count];
    codes.iter().for_each(|code| rows.get_mut(*code as usize).into_iter().for_each(|n| *n += 1));
    let mut frequent: Vec<usize> = (0..count).filter(|&level| rows[level] >= least).collect();
    frequent.sort_by_key(|&level| (std::cmp::Reverse(rows[level]), level));
    frequent.truncate(MOST_LEVELS);
    let others = frequent.len() as u16;
    (0..count).map(|level| frequent.iter().position(|&l| l == level).map_or(others, |at| at as u16)).collect()
}

/// How far the cells differ beyond what rows and columns explain: a chi-square,
/// and its degrees of freedom.
fn apart(cells: &[[f64; 2]], width: usize) -> (f64, f64) {
    let height = cells.len() / width;
    let (mut of_row, mut of_column) = (vec![0.0; height], vec![0.0; width]);
    let mean = |sums: [f64; 2]| if sums[1] > 0.0 { sums[0] / sums[1] } else { 0.0 };
    for _ in 0..ROUNDS {
        for i in 0..height {
            let of = (0..width).map(|j| (cells[i * width + j], of_column[j]));
            of_row[i] = mean(of.fold([0.0; 2], |s, ([over, v], other)| [s[0] + over - v * other, s[1] + v]));
        }
        for j in 0..width {
            let of = (0..height).map(|i| (cells[i * width + j], of_row[i]));
            of_column[j] = mean(of.fold([0.0; 2], |s, ([over, v], other)| [s[0] + over - v * other, s[1] + v]));
        }
    }
    let filled = |i: usize, j: usize| cells[i * width + j][1] > 0.0;
    let rows = (0..height).filter(|&i| (0..width).any(|j| filled(i, j))).count();
    let columns = (0..width).filter(|&j| (0..height).any(|i| filled(i, j))).count();
    let freedom = (rows.saturating_sub(1) * columns.saturating_sub(1)) as f64;
    let statistic = (0..cells.len())
        .filter(|&at| cells[at][1] > 0.0)
        .map(|at| {
            let [over, information] = cells[at];
            (over - information * (of_row[at / width] + of_column[at % width])).powi(2) / information
        })
        .sum();
    (statistic, freedom)
}
