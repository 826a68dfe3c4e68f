//! Small trees, many of them, without walking: one bit for every leaf.
//!
//! A customer who answers a question with no cannot end in any leaf to the left of
//! it. Starting with all leaves of a tree, every question that is answered with no
//! strikes out those; of what is left, the first leaf is the customer's (Lucchese
//! et al. 2015). Questions are taken feature by feature, for several rows side by
//! side, so that no step depends on what came before.

use super::tree::{SplitRule, Tree, TreeNode};

/// Rows that are asked side by side.
pub(super) const LANES: usize = 16;

/// Leaves of a tree at most.
const MOST_LEAVES: usize = 32;

/// Ranks of the rows that are asked side by side, by one feature.
#[derive(Clone, Copy)]
pub(super) struct Ranks {
    /// With missing values above all others, so that they go right.
    missing_right: [i32; LANES],
    /// With missing values below all others, so that they go left.
    missing_left: [i32; LANES],
}

impl Ranks {
    pub const NONE: Self = Self { missing_right: [0; LANES], missing_left: [0; LANES] };

    /// Puts the rank of a row in its place.
    pub fn put(&mut self, lane: usize, rank: u16) {
        self.missing_right[lane] = i32::from(rank);
        self.missing_left[lane] = if rank == u16::MAX { -1 } else { i32::from(rank) };
    }
}

/// Trees as questions by feature.
pub(super) struct Bitwise {
    /// For each feature, its questions in the order of their ranks.
    numbers: Vec<Vec<NumberQuestion>>,
    levels: Vec<Vec<LevelQuestion>>,
    /// Values of the leaves from left to right, tree by tree.
    values: Vec<f64>,
    /// Where the leaves of each tree begin.
    first: Vec<u32>,
}

/// Whether a rank is at most so much.
#[derive(Clone, Copy)]
struct NumberQuestion {
    most: i32,
    tree: u32,
    /// Leaves that are left after a no.
    keeps: u32,
    missing_left: bool,
}

/// Whether a level is one of a set.
struct LevelQuestion {
    /// One bit for each level, the last for missing and unknown ones.
    set: [u64; 4],
    tree: u32,
    keeps: u32,
}

impl Bitwise {
    /// Makes trees ready; `rank_of` gives a threshold's rank among those of its
    /// feature. None if a tree has too many leaves.
    pub fn of<'t>(
        trees: impl Iterator<Item = &'t Tree>,
        features: usize,
        rank_of: impl Fn(usize, f64) -> usize,
    ) -> Option<Self> {
        let mut all = Self {
            numbers: vec![Vec::new(); features],
            levels: (0..features).map(|_| Vec::new()).collect(),
            values: Vec::new(),
            first: Vec::new(),
        };
        for (at, tree) in trees.enumerate() {
            if tree.leaves() > MOST_LEAVES {
                return None;
            }
            all.first.push(all.values.len() as u32);
            all.ask(tree, 0, at as u32, 0, &rank_of);
        }
        all.numbers.iter_mut().for_each(|of| of.sort_by_key(|q| q.most));
        Some(all)
    }

    /// Takes up the questions of a subtree whose first leaf is the `from`th of its
    /// tree; how many leaves it has.
    fn ask(&mut self, tree: &Tree, node: usize, at: u32, from: u32, rank_of: &impl Fn(usize, f64) -> usize) -> u32 {
        let (feature, cut, missing_left, left, right) = match &tree.nodes[node] {
            TreeNode::Leaf { value, .. } => {
                self.values.push(*value);
                return 1;
            }
            TreeNode::Inner { feature, cut, missing_left, left, right, .. } => {
                (*feature as usize, cut, *missing_left, *left as usize, *right as usize)
            }
        };
        let before = self.ask(tree, left, at, from, rank_of);
        let after = self.ask(tree, right, at, from + before, rank_of);
        let keeps = !((((1u64 << before) - 1) << from) as u32);
        match cut {
            SplitRule::AtMost { threshold } => {
                let most = rank_of(feature, *threshold) as i32;
                self.numbers[feature].push(NumberQuestion { most, tree: at, keeps, missing_left });
            }
            SplitRule::OneOf { levels } => {
                let mut set = [0u64; 4];
                let missing = missing_left.then_some(255);
                levels.iter().copied().chain(missing).for_each(|l| set[(l >> 6) as usize & 3] |= 1 << (l & 63));
                self.levels[feature].push(LevelQuestion { set, tree: at, keeps });
            }
        }
        before + after
    }

    /// Room for the leaves that are left of every tree, row by row.
    pub fn room(&self) -> Vec<[u32; LANES]> {
        vec![[0; LANES]; self.first.len()]
    }

    /// Adds the values of all trees to the scores of up to [`LANES`] rows, in the
    /// order of the trees; `ranks` holds their ranks feature by feature.
    pub fn add_to(&self, ranks: &[Ranks], left: &mut [[u32; LANES]], scores: &mut [f64]) {
        left.iter_mut().for_each(|lanes| *lanes = [u32::MAX; LANES]);
        for (ranks, questions) in ranks.iter().zip(&self.numbers).filter(|q| !q.1.is_empty()) {
            let greatest = ranks.missing_right.iter().copied().fold(0, i32::max);
            for question in questions.iter().take_while(|q| q.most < greatest) {
                let ranks = if question.missing_left { &ranks.missing_left } else { &ranks.missing_right };
                let lanes = &mut left[question.tree as usize];
                for lane in 0..LANES {
                    // All bits where the answer is yes: the sign of what is left to the threshold.
                    let yes = !((question.most - ranks[lane]) >> 31) as u32;
                    lanes[lane] &= question.keeps | yes;
                }
            }
        }
        for (ranks, questions) in ranks.iter().zip(&self.levels).filter(|q| !q.1.is_empty()) {
            for question in questions {
                let lanes = &mut left[question.tree as usize];
                for (lane, rank) in lanes.iter_mut().zip(&ranks.missing_right) {
                    let yes = question.set[(rank >> 6) as usize & 3] >> (rank & 63) & 1;
                    *lane &= question.keeps | (yes as u32).wrapping_neg();
                }
            }
        }
        for (lanes, first) in left.iter().zip(&self.first) {
            for (score, lane) in scores.iter_mut().zip(lanes) {
                *score += self.values[(first + lane.trailing_zeros()) as usize];
            }
        }
    }
}
