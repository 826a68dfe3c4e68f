//! One tree, grown leaf by leaf where the gain is greatest.

use super::BoostedSettings;
use super::binning::{Binned, MISSING_BIN, Scale};
use super::histogram::{Bin, Histogram};
use super::splitting::{self, Split};
use super::tree::{Cut, Node, Tree};

/// Grows trees on one binned design; keeps its buffers from tree to tree.
pub(super) struct Grower<'a> {
    binned: &'a Binned,
    settings: &'a BoostedSettings,
    /// Rows of every leaf side by side.
    rows: Vec<u32>,
    spare: Vec<u32>,
}

/// A leaf that may still be cut.
struct Leaf {
    node: usize,
    range: std::ops::Range<usize>,
    histogram: Histogram,
    split: Option<Split>,
}

impl<'a> Grower<'a> {
    pub fn new(binned: &'a Binned, settings: &'a BoostedSettings) -> Self {
        Self { binned, settings, rows: Vec::new(), spare: vec![0; binned.rows] }
    }

    /// Grows a tree to the gradients and adds its values to the scores.
    pub fn grow(&mut self, gradients: &[[f32; 2]], scores: &mut [f64]) -> Tree {
        self.rows.clear();
        self.rows.extend(0..self.binned.rows as u32);
        let mut total = Bin::default();
        for gh in gradients {
            total.add(&Bin { gradient: f64::from(gh[0]), hessian: f64::from(gh[1]), rows: 1 });
        }
        let mut nodes = vec![self.leaf_node(&total)];
        let histogram = Histogram::of(self.binned, &self.rows, gradients);
        let split = splitting::best(self.binned, &histogram, &total, self.settings);
        let mut leaves = vec![Leaf { node: 0, range: 0..self.rows.len(), histogram, split }];
        while leaves.len() < self.settings.leaves {
            let Some(at) = widest(&leaves) else { break };
            let leaf = leaves.swap_remove(at);
            let Some(split) = leaf.split else { break };
            let middle = self.partition(&leaf.range, &split);
            let (left, right) = (nodes.len(), nodes.len() + 1);
            nodes.push(self.leaf_node(&split.left));
            nodes.push(self.leaf_node(&split.right));
            nodes[leaf.node] = self.inner_node(&split, left as u32, right as u32, nodes[leaf.node].rows());
            let ranges = [leaf.range.start..middle, middle..leaf.range.end];
            let smaller = usize::from(ranges[1].len() < ranges[0].len());
            let counted = Histogram::of(self.binned, &self.rows[ranges[smaller].clone()], gradients);
            let rest = leaf.histogram.less(&counted);
            let mut histograms = if smaller == 0 { [Some(counted), Some(rest)] } else { [Some(rest), Some(counted)] };
            for (side, (node, total)) in [(left, split.left), (right, split.right)].into_iter().enumerate() {
                let Some(histogram) = histograms[side].take() else { continue };
                let split = splitting::best(self.binned, &histogram, &total, self.settings);
                leaves.push(Leaf { node, range: ranges[side].clone(), histogram, split });
            }
        }
        for leaf in &leaves {
            if let Node::Leaf { value, .. } = nodes[leaf.node] {
                self.rows[leaf.range.clone()].iter().for_each(|&r| scores[r as usize] += value);
            }
        }
        Tree { nodes }
    }

    /// Puts the rows that go left first, both sides in their old order.
    fn partition(&mut self, range: &std::ops::Range<usize>, split: &Split) -> usize {
        let bins = &self.binned.features[split.feature].bins;
        let (mut left, mut right) = (range.start, 0);
        for at in range.clone() {
            let row = self.rows[at];
            if split.left_bins.contains(bins[row as usize]) {
                self.rows[left] = row;
                left += 1;
            } else {
                self.spare[right] = row;
                right += 1;
            }
        }
        self.rows[left..range.end].copy_from_slice(&self.spare[..right]);
        left
    }

    fn leaf_node(&self, total: &Bin) -> Node {
        let value = -total.gradient / (total.hessian + self.settings.ridge) * self.settings.learning_rate;
        Node::Leaf { value, rows: total.rows }
    }

    fn inner_node(&self, split: &Split, left: u32, right: u32, rows: u32) -> Node {
        let feature = split.feature as u32;
        let missing_left = split.left_bins.contains(MISSING_BIN);
        let cut = match (&self.binned.features[split.feature].scale, split.last_left) {
            (Scale::Edges(edges), Some(bin)) => {
                Cut::AtMost { threshold: edges.get(usize::from(bin)).copied().unwrap_or(f64::MAX) }
            }
            (scale, _) => {
                let own = if let Scale::Levels(n) = scale { *n } else { 0 };
                Cut::OneOf { levels: (0..own as u32).filter(|&l| split.left_bins.contains(l as u8)).collect() }
            }
        };
        Node::Inner { feature, cut, missing_left, left, right, rows }
    }
}

/// The leaf whose cut gains most; the older one on a tie.
fn widest(leaves: &[Leaf]) -> Option<usize> {
    let gain = |l: &Leaf| l.split.as_ref().map_or(f64::NEG_INFINITY, |s| s.gain);
    (0..leaves.len())
        .filter(|&i| leaves[i].split.is_some())
        .max_by(|&a, &b| gain(&leaves[a]).total_cmp(&gain(&leaves[b])).then(leaves[b].node.cmp(&leaves[a].node)))
}
