//! Decisions: what acting on a customer is worth, whom to act on, and what came of a campaign.

pub mod campaign;
pub mod decide;
pub mod question;
