//! Trees on columns cut into bins: what boosting, forests and single trees share.
//!
//! Columns are cut into at most 255 bins once, and splits are sought among
//! bins. The sums of a node are integers (see [`quantised`]), so that they are
//! the same in whatever order threads add them up; the histogram of the larger
//! child is its parent's less the smaller child's.

mod binning;
mod bitwise;
mod grower;
mod histogram;
mod predictor;
mod quantised;
mod splitting;
mod tree;

pub use binning::BINS;
pub(super) use binning::Binned;
pub(super) use grower::{Grower, GrowthLimits};
pub(super) use predictor::Predictor;
pub(super) use quantised::{GradientSums, Quantised};
pub(super) use splitting::{Cuttable, Direction, FoundSplit, SplitLimits};
pub use tree::{SplitRule, Tree, TreeNode};
