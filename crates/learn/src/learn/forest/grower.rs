//! One tree of a forest, grown to the end on one thread.

use rand::seq::index;
use rand_chacha::ChaCha8Rng;

use crate::learn::Target;
use crate::learn::trees::{
    Binned, Cuttable, Direction, FoundSplit, GradientSums, Quantised, SplitLimits, SplitRule, Tree, TreeNode,
};

/// Grows trees on one binned design.
pub struct ForestGrower<'a> {
    binned: &'a Binned,
    limits: SplitLimits,
    /// Features that each cut is sought among.
    features: usize,
}

impl<'a> ForestGrower<'a> {
    pub fn new(binned: &'a Binned, rows_per_leaf: usize, features: usize) -> Self {
        let limits = SplitLimits {
            rows_per_leaf,
            ridge: 0.0,
            rows_per_level: 2,
            level_smoothing: 5.0,
            level_ridge: 5.0,
            centred: true,
        };
        Self { binned, limits, features }
    }

    /// Grows a tree to rows that were drawn so many times each.
    pub fn grow(&self, target: &Target, drawn: &[u16], rng: &mut ChaCha8Rng) -> Tree {
        let mut quantised = Quantised::default();
        let pair = |row: usize| {
            let weight = f32::from(drawn[row]) * target.weight(row) as f32;
            [if target.event[row] { -weight } else { 0.0 }, weight]
        };
        quantised.pack(&(0..drawn.len()).map(pair).collect::<Vec<_>>(), 0);
        let mut rows: Vec<u32> = (0..drawn.len() as u32).filter(|&row| drawn[row as usize] > 0).collect();
        let mut spare = vec![0u32; rows.len()];
        let times = |rows: &[u32]| rows.iter().map(|&row| usize::from(drawn[row as usize])).sum::<usize>();
        let total = quantised.sums(rows.iter().map(|&row| quantised.packed(row)).sum());
        let mut nodes = vec![leaf(total, times(&rows))];
        let mut waiting = vec![(0usize, 0..rows.len(), total)];
        while let Some((at, range, total)) = waiting.pop() {
            let here = times(&rows[range.clone()]);
            let is_pure = total.gradient == 0.0 || total.gradient == -total.hessian;
            if is_pure || here < 2 * self.limits.rows_per_leaf {
                continue;
            }
            let Some(split) = self.cut(&quantised, &rows[range.clone()], (total, here), rng) else { continue };
            let (mut left, mut right) = (range.start, 0);
            for place in range.clone() {
                let row = rows[place];
                if split.left_bins.contains(self.binned.bin(split.feature, row as usize)) {
                    rows[left] = row;
                    left += 1;
                } else {
                    spare[right] = row;
                    right += 1;
                }
            }
            rows[left..range.end].copy_from_slice(&spare[..right]);
            let first = nodes.len();
            for (side, (sums, range)) in
                [(split.left, range.start..left), (split.right, left..range.end)].into_iter().enumerate()
            {
                nodes.push(leaf(sums, times(&rows[range.clone()])));
                waiting.push((first + side, range, sums));
            }
            nodes[at] = self.inner(&split, first as u32, here as u32);
        }
        Tree { nodes }
    }

    /// The best cut by features drawn by lot; ties go to the one drawn first.
    fn cut(
        &self,
        quantised: &Quantised,
        rows: &[u32],
        (total, here): (GradientSums, usize),
        rng: &mut ChaCha8Rng,
    ) -> Option<FoundSplit> {
        let bounds = [f64::NEG_INFINITY, f64::INFINITY];
        let node = Cuttable { quantised, total, rows: here, bounds, limits: &self.limits };
        let mut best: Option<FoundSplit> = None;
        for feature in index::sample(rng, self.binned.features(), self.features) {
            let mut bins = [0i64; 256];
            for &row in rows {
                bins[usize::from(self.binned.bin(feature, row as usize))] += quantised.packed(row);
            }
            if let Some(cut) = node.cut(feature, self.binned.scale(feature), &bins, Direction::Free)
                && best.as_ref().is_none_or(|best| cut.gain > best.gain)
            {
                best = Some(cut);
            }
        }
        best
    }

    fn inner(&self, split: &FoundSplit, left: u32, rows: u32) -> TreeNode {
        let scale = self.binned.scale(split.feature);
        TreeNode::Inner {
            feature: split.feature as u32,
            cut: SplitRule::of(scale, split),
            missing_left: split.left_bins.contains(scale.used() as u8),
            left,
            right: left + 1,
            rows,
        }
    }
}

fn leaf(sums: GradientSums, rows: usize) -> TreeNode {
    let value = if sums.hessian > 0.0 { (-sums.gradient / sums.hessian).clamp(0.0, 1.0) } else { 0.0 };
    TreeNode::Leaf { value, rows: rows as u32 }
}
