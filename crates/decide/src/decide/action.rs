//! What is done about a customer.

use serde::{Deserialize, Serialize};

/// What is done about a customer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PolicyAction {
    /// Act.
    Act,
    /// Have somebody look.
    Refer,
    /// Leave alone.
    Leave,
}

impl PolicyAction {
    /// The word for it in scored lists.
    pub fn word(self) -> &'static str {
        match self {
            Self::Act => "act",
            Self::Refer => "refer",
            Self::Leave => "leave",
        }
    }
}
