//! Exact reasons of trees, for many customers at once.
//!
//! In a tree, to know a column is to follow its answer; not to know it is to go both ways, as often
//! as training rows went (Lundberg et al. 2020, “From local explanations to global understanding
//! with explainable AI for trees”, path-dependent values). What a leaf contributes is then a
//! product over the columns asked on its way, whose Shapley values depend only on which of those
//! columns lead a customer to the leaf. For the few columns of a way all such cases are worked out
//! once (as in Yang 2021, “Fast TreeSHAP”), and a customer only has to find their case.

use rayon::prelude::*;

use super::{Reasons, ScoreUnit, ShapleyMethod};
use pronoia_learn::learn::{Tree, TreeNode};
use pronoia_learn::prepare::Design;

/// Columns of a way up to which the contributions in all cases are worked out beforehand.
const TABLED: usize = 10;

/// Columns of a way up to which what they need is.
const HALF_TABLED: usize = 13;

/// Customers who go through a tree together.
const BLOCK: usize = 512;

/// The contributions of all trees together.
pub(super) struct ForestContributions {
    base: f64,
    columns: usize,
    /// Customer by customer.
    reasons: Vec<f64>,
}

/// A leaf as a game of the columns on its way.
struct LeafPath {
    value: f64,
    columns: Vec<PathColumn>,
    /// Node, whether the way goes left there, and the place of its column.
    turns: Vec<(u32, bool, u16)>,
    /// For every case, what each column contributes; for ways of few columns.
    table: Vec<f64>,
    /// For every case, its [`Case`]; for ways of some columns more.
    cases: Vec<Case>,
}

/// Some columns of a way lead a customer to the leaf, the others elsewhere.
#[derive(Clone, Copy)]
struct Case {
    /// The product of the shares of those that lead elsewhere.
    elsewhere: f64,
    /// Over all sets of those that lead there, the weight of the set times the product of the shares
    /// of the rest of them.
    leading: f64,
}

/// A column on a way.
#[derive(Clone, Copy)]
struct PathColumn {
    column: usize,
    /// The share of training rows that follow the way where this column is asked.
    share: f64,
}

/// Adds up what trees contribute. `columns_of[f]` is the column of feature `f` of the design.
pub(super) fn reasons(trees: &[Tree], design: &Design, columns_of: &[usize], columns: usize) -> ForestContributions {
    let mut sums = ForestContributions { base: 0.0, columns, reasons: vec![0.0; design.rows() * columns] };
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

impl ForestContributions {
    /// As scores of customers that start from `start`, each contribution times `factor`.
    pub fn into_reasons(self, unit: ScoreUnit, start: f64, factor: f64) -> Reasons {
        let base = start + self.base * factor;
        let of: Vec<Vec<f64>> =
            self.reasons.chunks_exact(self.columns).map(|row| row.iter().map(|r| r * factor).collect()).collect();
        let scores = of.iter().map(|row: &Vec<f64>| base + row.iter().sum::<f64>()).collect();
        Reasons {
            unit,
            method: ShapleyMethod::Trees,
            columns: vec![],
            base,
            of,
            errors: None,
            scores,
            probability: vec![],
        }
    }
}

/// What a customer answers at every node.
fn answers(tree: &Tree, design: &Design, row: usize, left: &mut [bool]) {
    for (node, left) in tree.nodes.iter().zip(left) {
        if let TreeNode::Inner { feature, cut, missing_left, .. } = node {
            *left = cut.goes_left(&design.features()[*feature as usize].values, row).unwrap_or(*missing_left);
        }
    }
}

/// The ways to all leaves.
fn ways(tree: &Tree, columns_of: &[usize]) -> Vec<LeafPath> {
    let mut ways = Vec::new();
    let mut open = vec![(0u32, Vec::<(u32, bool)>::new())];
    while let Some((at, turns)) = open.pop() {
        match &tree.nodes[at as usize] {
            TreeNode::Leaf { value, .. } => ways.push(LeafPath::to(*value, &turns, tree, columns_of)),
            TreeNode::Inner { left, right, .. } => {
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

impl LeafPath {
    fn to(value: f64, turns: &[(u32, bool)], tree: &Tree, columns_of: &[usize]) -> Self {
        let mut way = Self { value, columns: vec![], turns: vec![], table: vec![], cases: vec![] };
        for &(at, goes_left) in turns {
            let TreeNode::Inner { feature, left, right, .. } = &tree.nodes[at as usize] else { continue };
            let rows = |node: u32| f64::from(tree.nodes[node as usize].rows());
            let both = rows(*left) + rows(*right);
            let share = if both > 0.0 { rows(if goes_left { *left } else { *right }) / both } else { 0.5 };
            let column = columns_of[*feature as usize];
            let place = match way.columns.iter().position(|known| known.column == column) {
                Some(place) => place,
                None => {
                    way.columns.push(PathColumn { column, share: 1.0 });
                    way.columns.len() - 1
                }
            };
            way.columns[place].share *= share;
            way.turns.push((at, goes_left, place as u16));
        }
        let n = way.columns.len();
        if n <= HALF_TABLED {
            way.cases = way.all_cases();
        }
        if n <= TABLED {
            let mut table = vec![0.0; n << n];
            for case in 0..1usize << n {
                way.contributions(case, &mut table[case * n..(case + 1) * n]);
            }
            (way.table, way.cases) = (table, Vec::new());
        }
        way
    }

    /// Adds what the leaf contributes for a customer with these answers.
    fn add_to(&self, left: &[bool], reasons: &mut [f64], room: &mut Vec<f64>) {
        let n = self.columns.len();
        let known = self.columns.iter().map(|known| known.column);
        let astray = self.turns.iter().filter(|(at, goes_left, _)| left[*at as usize] != *goes_left);
        room.resize(n, 0.0);
        if n > HALF_TABLED {
            let mut leads = vec![true; n];
            astray.for_each(|&(.., place)| leads[usize::from(place)] = false);
            self.contributions_of_many(&leads, room);
        } else {
            let case = astray.fold((1usize << n) - 1, |case, &(.., place)| case & !(1 << place));
            if n <= TABLED {
                let contributions = &self.table[case * n..(case + 1) * n];
                known.zip(contributions).for_each(|(column, c)| reasons[column] += c);
                return;
            }
            self.contributions(case, room);
        }
        known.zip(room.iter()).for_each(|(column, c)| reasons[column] += c);
    }

    /// The weights of sets of so many columns known before another is: `k! (n − 1 − k)! / n!`.
    fn weights(n: usize) -> Vec<f64> {
        let mut weights = vec![1.0 / n.max(1) as f64];
        for k in 1..n {
            weights.push(weights[k - 1] * k as f64 / (n - k) as f64);
        }
        weights
    }

    /// What every case needs. Sums over sets of columns are the coefficients of the product of
    /// (x + share) over the columns that lead to the leaf: each known, or not.
    fn all_cases(&self) -> Vec<Case> {
        let n = self.columns.len();
        let weights = Self::weights(n);
        let mut products = vec![0.0; (n + 1) << n];
        products[0] = 1.0;
        let mut cases = Vec::with_capacity(1 << n);
        for case in 0..1usize << n {
            if case > 0 {
                let newest = case.trailing_zeros() as usize;
                let share = self.columns[newest].share;
                let (from, to) = ((case & (case - 1)) * (n + 1), case * (n + 1));
                for k in 0..=case.count_ones() as usize {
                    let lower = if k > 0 { products[from + k - 1] } else { 0.0 };
                    products[to + k] = products[from + k] * share + lower;
                }
            }
            let elsewhere =
                (0..n).filter(|place| case >> place & 1 == 0).map(|place| self.columns[place].share).product();
            let of_sets = &products[case * (n + 1)..(case + 1) * (n + 1)];
            let leading = weights.iter().zip(of_sets).map(|(weight, product)| weight * product).sum();
            cases.push(Case { elsewhere, leading });
        }
        cases
    }

    /// What each column contributes in a case.
    ///
    /// The game is the product of 1 for every known column that leads to the leaf, 0 for one that
    /// leads elsewhere, and the share of training rows for one that is not known. A column that
    /// leads there adds `1 − share` to the sets of the others that do; one that leads elsewhere
    /// takes its share away, which is the same for all of them.
    fn contributions(&self, case: usize, out: &mut [f64]) {
        let Case { elsewhere, leading } = self.cases[case];
        for (place, (known, out)) in self.columns.iter().zip(out).enumerate() {
            let of_others = self.cases[case & !(1 << place)].leading;
            *out = self.value
                * elsewhere
                * if case >> place & 1 == 1 { (1.0 - known.share) * of_others } else { -leading };
        }
    }

    /// The same for a way of so many columns that not all of its cases are worked out.
    fn contributions_of_many(&self, leads: &[bool], out: &mut [f64]) {
        let n = self.columns.len();
        let weights = Self::weights(n);
        let elsewhere: f64 =
            self.columns.iter().enumerate().filter(|(place, _)| !leads[*place]).map(|(_, known)| known.share).product();
        let without = |place: usize| -> f64 {
            let mut product = vec![1.0];
            for (_, known) in self.columns.iter().enumerate().filter(|(other, _)| *other != place && leads[*other]) {
                product.push(0.0);
                for k in (0..product.len()).rev() {
                    product[k] = product[k] * known.share + if k > 0 { product[k - 1] } else { 0.0 };
                }
            }
            weights.iter().zip(product).map(|(weight, product)| weight * product).sum()
        };
        let leading = without(n);
        for (place, (known, out)) in self.columns.iter().zip(out).enumerate() {
            let leads_there = if leads[place] { (1.0 - known.share) * without(place) } else { -leading };
            *out = self.value * elsewhere * leads_there;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn ways_of_any_length_contribute_as_the_definition_says(
            shares in prop::collection::vec(0.01..0.99f64, 1..12), leads in prop::collection::vec(any::<bool>(), 12), value in -2.0..2.0f64,
        ) {
            let n = shares.len();
            let columns = shares.iter().enumerate().map(|(column, &share)| PathColumn { column, share }).collect();
            let mut way = LeafPath { value, columns, turns: vec![], table: vec![], cases: vec![] };
            way.cases = way.all_cases();
            let game = |set: usize| -> f64 {
                let of = |place: usize| match set >> place & 1 {
                    1 => f64::from(u8::from(leads[place])),
                    _ => shares[place],
                };
                value * (0..n).map(of).product::<f64>()
            };
            let factorial = |k: usize| (1..=k).map(|i| i as f64).product::<f64>();
            let by_definition = |place: usize| -> f64 {
                let sets = (0..1usize << n).filter(|set| set >> place & 1 == 0);
                sets.map(|set| {
                    let k = set.count_ones() as usize;
                    factorial(k) * factorial(n - 1 - k) / factorial(n) * (game(set | 1 << place) - game(set))
                }).sum()
            };
            let case = (0..n).filter(|place| leads[*place]).fold(0usize, |case, place| case | 1 << place);
            let (mut by_case, mut by_columns) = (vec![0.0; n], vec![0.0; n]);
            way.contributions(case, &mut by_case);
            way.contributions_of_many(&leads[..n], &mut by_columns);
            for place in 0..n {
                let expected = by_definition(place);
                prop_assert!((by_case[place] - expected).abs() < 1e-12, "{} {}", by_case[place], expected);
                prop_assert!((by_columns[place] - expected).abs() < 1e-12, "{} {}", by_columns[place], expected);
            }
        }
    }
}
