//! Exact reasons of trees, for many customers at once.
//!
//! In a tree, to know a column is to follow its answer; not to know it is to go both ways, as often
//! as training rows went (Lundberg et al. 2020, “From local explanations to global understanding
//! with explainable AI for trees”, path-dependent values). What a leaf contributes is then a
//! product over the columns asked on its way, whose Shapley values depend only on which of those
//! columns lead a customer to the leaf. For the few columns of a way all such cases are worked out
//! once (as in Yang 2021, “Fast TreeSHAP”), and a customer only has to find their case.

use rayon::prelude::*;

use super::{Method, Reasons, Unit};
use crate::learn::{Node, Tree};
use crate::prepare::Design;

/// Columns of a way up to which all cases are worked out beforehand.
const TABLED: usize = 8;

/// Customers who go through a tree together.
const BLOCK: usize = 512;

/// The contributions of all trees together.
pub(super) struct Sums {
    base: f64,
    columns: usize,
    /// Customer by customer.
    reasons: Vec<f64>,
}

/// A leaf as a game of the columns on its way.
struct Way {
    value: f64,
    columns: Vec<Known>,
    /// Node, whether the way goes left there, and the place of its column.
    turns: Vec<(u32, bool, u8)>,
    /// For every case, what each column contributes.
    table: Vec<f64>,
}

/// A column on a way.
#[derive(Clone, Copy)]
struct Known {
    column: usize,
    /// The share of training rows that follow the way where this column is asked.
    share: f64,
}

/// Adds up what trees contribute. `columns_of[f]` is the column of feature `f` of the design.
pub(super) fn reasons(trees: &[Tree], design: &Design, columns_of: &[usize], columns: usize) -> Sums {
    let mut sums = Sums { base: 0.0, columns, reasons: vec![0.0; design.rows() * columns] };
    // One tree after the other, so that its cases stay in the cache.
    for tree in trees {
        let ways = ways(tree, columns_of);
        sums.base +=
            ways.iter().map(|way| way.value * way.columns.iter().map(|c| c.share).product::<f64>()).sum::<f64>();
        let blocks = sums.reasons.par_chunks_mut(BLOCK * columns).enumerate();
        blocks.for_each_init(
            || (vec![false; tree.nodes.len()], Vec::new()),
            |(left, room), (block, reasons)| {
                for (at, reasons) in reasons.chunks_exact_mut(columns).enumerate() {
                    answers(tree, design, block * BLOCK + at, left);
                    ways.iter().for_each(|way| way.add_to(left, reasons, room));
                }
            },
        );
    }
    sums
}

impl Sums {
    /// As scores of customers that start from `start`, each contribution times `factor`.
    pub fn into_reasons(self, unit: Unit, start: f64, factor: f64) -> Reasons {
        let base = start + self.base * factor;
        let of: Vec<Vec<f64>> =
            self.reasons.chunks_exact(self.columns).map(|row| row.iter().map(|r| r * factor).collect()).collect();
        let scores = of.iter().map(|row: &Vec<f64>| base + row.iter().sum::<f64>()).collect();
        Reasons { unit, method: Method::Trees, columns: vec![], base, of, errors: None, scores, probability: vec![] }
    }
}

/// What a customer answers at every node.
fn answers(tree: &Tree, design: &Design, row: usize, left: &mut [bool]) {
    for (node, left) in tree.nodes.iter().zip(left) {
        if let Node::Inner { feature, cut, missing_left, .. } = node {
            *left = cut.goes_left(&design.features()[*feature as usize].values, row).unwrap_or(*missing_left);
        }
    }
}

/// The ways to all leaves.
fn ways(tree: &Tree, columns_of: &[usize]) -> Vec<Way> {
    let mut ways = Vec::new();
    let mut open = vec![(0u32, Vec::<(u32, bool)>::new())];
    while let Some((at, turns)) = open.pop() {
        match &tree.nodes[at as usize] {
            Node::Leaf { value, .. } => ways.push(Way::to(*value, &turns, tree, columns_of)),
            Node::Inner { left, right, .. } => {
                for (child, goes_left) in [(*right, false), (*left, true)] {
                    let mut turns = turns.clone();
                    turns.push((at, goes_left));
                    open.push((child, turns));
                }
            }
        }
    }
    ways
}

impl Way {
    fn to(value: f64, turns: &[(u32, bool)], tree: &Tree, columns_of: &[usize]) -> Self {
        let mut way = Self { value, columns: vec![], turns: vec![], table: vec![] };
        for &(at, goes_left) in turns {
            let Node::Inner { feature, left, right, .. } = &tree.nodes[at as usize] else { continue };
            let rows = |node: u32| f64::from(tree.nodes[node as usize].rows());
            let both = rows(*left) + rows(*right);
            let share = if both > 0.0 { rows(if goes_left { *left } else { *right }) / both } else { 0.5 };
            let column = columns_of[*feature as usize];
            let place = match way.columns.iter().position(|known| known.column == column) {
                Some(place) => place,
                None => {
                    way.columns.push(Known { column, share: 1.0 });
                    way.columns.len() - 1
                }
            };
            way.columns[place].share *= share;
            way.turns.push((at, goes_left, place as u8));
        }
        if way.columns.len() <= TABLED {
            let n = way.columns.len();
            let mut table = vec![0.0; n << n];
            for case in 0..1u64 << n {
                way.contributions(case, &mut table[case as usize * n..(case as usize + 1) * n], &mut Vec::new());
            }
            way.table = table;
        }
        way
    }

    /// Adds what the leaf contributes for a customer with these answers.
    fn add_to(&self, left: &[bool], reasons: &mut [f64], room: &mut Vec<f64>) {
        let n = self.columns.len();
        let mut case = u64::MAX;
        for &(at, goes_left, place) in &self.turns {
            if left[at as usize] != goes_left {
                case &= !(1 << place);
            }
        }
        if n <= TABLED {
            let case = case as usize & ((1 << n) - 1);
            let contributions = &self.table[case * n..(case + 1) * n];
            self.columns.iter().zip(contributions).for_each(|(known, c)| reasons[known.column] += c);
            return;
        }
        let mut contributions = [0.0; 64];
        self.contributions(case, &mut contributions[..n.min(64)], room);
        self.columns.iter().zip(contributions).for_each(|(known, c)| reasons[known.column] += c);
    }

    /// What each column contributes where those in `case` lead to the leaf.
    ///
    /// The game is the product of 1 for every known column that leads here, 0 for one that leads
    /// elsewhere, and the share of training rows for one that is not known. With `k` of `n` columns
    /// known before it, a column's turn has the weight `k! (n − 1 − k)! / n!`; products over the
    /// columns known and not known are the coefficients of a polynomial.
    fn contributions(&self, case: u64, out: &mut [f64], room: &mut Vec<f64>) {
        let n = self.columns.len();
        let leads = |place: usize| case >> place & 1 == 1;
        for (place, out) in out.iter_mut().enumerate() {
            room.clear();
            room.push(1.0);
            let mut elsewhere = 1.0;
            for (other, known) in self.columns.iter().enumerate().filter(|(other, _)| *other != place) {
                if !leads(other) {
                    elsewhere *= known.share;
                    continue;
                }
                // Times (x + share): known, or not.
                room.push(0.0);
                for at in (0..room.len()).rev() {
                    room[at] = room[at] * known.share + if at > 0 { room[at - 1] } else { 0.0 };
                }
            }
            let mut weight = 1.0 / n as f64;
            let mut sum = 0.0;
            for (known, product) in room.iter().enumerate() {
                sum += weight * product;
                // k! (n − 1 − k)! / n! for one more.
                weight *= (known + 1) as f64 / (n.saturating_sub(known + 1)).max(1) as f64;
            }
            let lead = if leads(place) { 1.0 } else { 0.0 };
            *out = self.value * (lead - self.columns[place].share) * elsewhere * sum;
        }
    }
}
