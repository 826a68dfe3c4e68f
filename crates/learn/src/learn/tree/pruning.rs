//! Cutting branches back that do not earn their leaves.

use super::log_odds;
use crate::learn::Target;
use crate::learn::trees::{Tree, TreeNode};
use crate::prepare::Design;
use pronoia_data::stats::log_loss_of_log_odds;

/// A tree, what its nodes hold, and from which penalty on each is a leaf.
pub struct Pruning {
    pub tree: Tree,
    /// Weight of rows without and with the event.
    pub counts: Vec<[f64; 2]>,
    /// The penalty per leaf from which on a node has no branches; 0 for leaves.
    leaf_from: Vec<f64>,
}

/// Gini impurity of a node, times its weight.
fn impurity([others, events]: [f64; 2]) -> f64 {
    if others + events > 0.0 { others * events / (others + events) } else { 0.0 }
}

impl Pruning {
    /// Counts what the nodes hold, and finds the weakest link again and again
    /// (Breiman et al. 1984, section 3.3).
    pub fn of(tree: Tree, design: &Design, target: &Target) -> Self {
        let mut counts = vec![[0.0; 2]; tree.nodes.len()];
        for row in 0..target.rows() {
            counts[tree.leaf_of(design, row)][usize::from(target.event[row])] += target.weight(row);
        }
        for at in (0..tree.nodes.len()).rev() {
            if let TreeNode::Inner { left, right, .. } = tree.nodes[at] {
                let [l, r] = [counts[left as usize], counts[right as usize]];
                counts[at] = [l[0] + r[0], l[1] + r[1]];
            }
        }
        let leaf_from = leaf_from(&tree, &counts);
        Self { tree, counts, leaf_from }
    }

    /// Penalties to choose among, ascending: one between any two at which the
    /// tree changes.
    pub fn penalties(&self) -> Vec<f64> {
        let mut changes: Vec<f64> = self.leaf_from.iter().copied().filter(|&p| p > 0.0).collect();
        changes.sort_unstable_by(f64::total_cmp);
        changes.dedup();
        let mut penalties = vec![0.0];
        penalties.extend(changes.windows(2).map(|w| (w[0] * w[1]).sqrt()));
        penalties.extend(changes.last());
        penalties
    }

    /// Adds the log loss of some rows under every penalty.
    pub fn add_losses(&self, design: &Design, target: &Target, rate: f64, penalties: &[f64], losses: &mut [f64]) {
        let odds: Vec<f64> = self.counts.iter().map(|&counts| log_odds(counts, rate)).collect();
        for row in 0..target.rows() {
            let mut way = vec![0usize];
            while let TreeNode::Inner { feature, cut, missing_left, left, right, .. } =
                &self.tree.nodes[way[way.len() - 1]]
            {
                let values = &design.features()[*feature as usize].values;
                let goes_left = cut.goes_left(values, row).unwrap_or(*missing_left);
                way.push(if goes_left { *left } else { *right } as usize);
            }
            let (event, weight) = (target.event[row], target.weight(row));
            for (penalty, loss) in penalties.iter().zip(losses.iter_mut()) {
                let end = way.iter().find(|&&node| self.leaf_from[node] <= *penalty).unwrap_or(&way[way.len() - 1]);
                *loss += weight * log_loss_of_log_odds(odds[*end], event);
            }
        }
    }

    /// The tree without the branches that a penalty per leaf does not leave.
    pub fn cut_back(self, penalty: f64) -> Self {
        let mut kept = Self { tree: Tree { nodes: Vec::new() }, counts: Vec::new(), leaf_from: Vec::new() };
        let mut waiting = vec![(0usize, 0usize)];
        let keep = |kept: &mut Self, old: usize| {
            kept.tree.nodes.push(self.tree.nodes[old].clone());
            kept.counts.push(self.counts[old]);
            kept.leaf_from.push(self.leaf_from[old]);
            kept.tree.nodes.len() - 1
        };
        keep(&mut kept, 0);
        while let Some((old, new)) = waiting.pop() {
            let TreeNode::Inner { feature, cut, missing_left, left, right, rows } = &self.tree.nodes[old] else {
                continue;
            };
            if self.leaf_from[old] <= penalty {
                kept.tree.nodes[new] = TreeNode::Leaf { value: 0.0, rows: *rows };
                continue;
            }
            let (new_left, new_right) = (keep(&mut kept, *left as usize), keep(&mut kept, *right as usize));
            kept.tree.nodes[new] = TreeNode::Inner {
                feature: *feature,
                cut: cut.clone(),
                missing_left: *missing_left,
                left: new_left as u32,
                right: new_right as u32,
                rows: *rows,
            };
            waiting.extend([(*left as usize, new_left), (*right as usize, new_right)]);
        }
        kept
    }
}

/// From which penalty on every node is a leaf.
fn leaf_from(tree: &Tree, counts: &[[f64; 2]]) -> Vec<f64> {
    let children = |at: usize| match tree.nodes[at] {
        TreeNode::Inner { left, right, .. } => Some([left as usize, right as usize]),
        TreeNode::Leaf { .. } => None,
    };
    let mut from: Vec<Option<f64>> = (0..tree.nodes.len()).map(|at| children(at).is_none().then_some(0.0)).collect();
    let mut reached = 0.0f64;
    while from[0].is_none() {
        // Leaves below every node that still has branches, and their impurity.
        let mut below: Vec<(f64, f64)> = vec![(1.0, 0.0); tree.nodes.len()];
        let mut weakest = (f64::INFINITY, 0);
        for at in (0..tree.nodes.len()).rev() {
            below[at] = match children(at).filter(|_| from[at].is_none()) {
                None => (1.0, impurity(counts[at])),
                Some([l, r]) => (below[l].0 + below[r].0, below[l].1 + below[r].1),
            };
            if from[at].is_none() {
                let earned = (impurity(counts[at]) - below[at].1) / (below[at].0 - 1.0);
                if earned <= weakest.0 {
                    weakest = (earned, at);
                }
            }
        }
        reached = reached.max(weakest.0).max(f64::MIN_POSITIVE);
        let mut gone = vec![weakest.1];
        while let Some(at) = gone.pop() {
            if from[at].is_none() {
                from[at] = Some(reached);
                gone.extend(children(at).into_iter().flatten());
            }
        }
    }
    from.into_iter().map(|p| p.unwrap_or(0.0)).collect()
}
