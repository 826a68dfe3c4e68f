//! What trees on other draws of the same rows would ask first.
//!
//! The first question of a single tree is often read as "what matters most". Where
//! other draws of the rows (Efron 1979) ask about something else first, it is
//! one of several that matter about as much.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};

use super::{CheckedSettings, TreeSettings, counted};
use crate::learn::trees::{Binned, Grower, Quantised, TreeNode};
use crate::learn::{Target, seed_of};
use crate::prepare::Design;

/// Draws of the rows.
const DRAWS: usize = 25;

/// What trees on other draws of the rows ask first.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct FirstQuestions {
    /// How many draws ask about each column first, most first; draws that ask
    /// nothing are in none.
    pub columns: Vec<(String, u32)>,
    /// Draws.
    pub draws: u32,
}

impl CheckedSettings<TreeSettings> {
    /// Draws as many rows as there are, again and again, and grows one cut to each draw.
    pub(super) fn first_questions(&self, design: &Design, target: &Target, seed: u64) -> FirstQuestions {
        let binned = Binned::of(design);
        let growth = self.growth(2, binned.features());
        let every: Vec<usize> = (0..binned.features()).collect();
        let mut grower = Grower::new(&binned, &growth);
        let (rows, mut quantised) = (target.rows(), Quantised::default());
        let mut found = FirstQuestions { columns: Vec::new(), draws: DRAWS as u32 };
        for draw in 0..DRAWS {
            let mut rng = ChaCha8Rng::seed_from_u64(seed_of(seed, draw));
            let mut times = vec![0.0f32; rows];
            (0..rows).for_each(|_| times[rng.random_range(0..rows)] += 1.0);
            let part: Vec<bool> = times.iter().map(|&n| n > 0.0).collect();
            quantised.pack(&(0..rows).map(|row| counted(target, row, times[row])).collect::<Vec<_>>(), 0);
            let Some(TreeNode::Inner { feature, .. }) =
                grower.grow(&quantised, Some(&part), &every).tree.nodes.first().cloned()
            else {
                continue;
            };
            let column = &design.features()[feature as usize].column;
            match found.columns.iter_mut().find(|c| c.0 == *column) {
                Some(count) => count.1 += 1,
                None => found.columns.push((column.clone(), 1)),
            }
        }
        found.columns.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        found
    }
}
