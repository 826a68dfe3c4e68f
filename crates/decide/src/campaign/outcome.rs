//! What came of a campaign, as it is kept.

use serde::{Deserialize, Serialize};

use super::learned_assumption::Learned;
use super::results::Results;

/// What came of a campaign.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CampaignOutcome {
    /// The table that it was read from.
    pub table: String,
    /// The groups compared; none without a control group.
    pub results: Option<Results>,
    /// What that teaches about the assumptions of the policy.
    pub learned: Option<Learned>,
    /// Whether money was worked out from the amounts of the policy, rather than read.
    pub assumed_amounts: bool,
    /// Customers acted on and held back about whom the table says nothing.
    pub absent: [u64; 2],
    /// Whether they are counted as without the event; else they are left out.
    pub absent_had_none: bool,
    /// Customers who stand in the table more than once.
    pub twice: u64,
}
