//! What is asked of the customers: will they leave, fall behind, or answer.

use serde::{Deserialize, Serialize};

/// The kinds of question that share one way of working.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Question {
    /// A customer leaves; the action is an offer to keep them.
    Churn,
    /// A customer defaults; the action is to decline, refer or price.
    Credit,
    /// A customer answers; the action is to contact them.
    Response,
    /// Any other yes/no question.
    Other,
}

impl Question {
    /// Every kind, in the order in which the pages offer them.
    pub const ALL: [Question; 4] = [Self::Churn, Self::Credit, Self::Response, Self::Other];

    /// The stable word for it, as in forms and stored studies.
    pub fn word(self) -> &'static str {
        match self {
            Self::Churn => "churn",
            Self::Credit => "credit",
            Self::Response => "response",
            Self::Other => "other",
        }
    }

    /// What no records of such a question can tell, whatever is made of them.
    pub fn cannot_tell(self) -> Option<&'static str> {
        match self {
            Self::Churn | Self::Response => Some(
                "A high probability is not the same as being easy to persuade; what acting changes is known only from a campaign with a control group.",
            ),
            Self::Credit => Some(
                "The records are of past approvals only: nothing is known of those who were declined, so that the model has not learned from anybody like them.",
            ),
            Self::Other => None,
        }
    }

    /// What is being asked, for a form.
    pub fn description(self) -> &'static str {
        match self {
            Self::Churn => "Who is about to leave?",
            Self::Credit => "Who will fail to pay?",
            Self::Response => "Who will answer an offer?",
            Self::Other => "Another yes-or-no question",
        }
    }

    /// What customers with the event did: “410 of them left”.
    pub fn event_verb(self) -> &'static str {
        match self {
            Self::Churn => "left",
            Self::Credit => "defaulted",
            Self::Response => "answered",
            Self::Other => "had the event",
        }
    }

    /// What they would have done: “41 would have left”.
    pub fn event_would(self) -> &'static str {
        match self {
            Self::Churn => "would have left",
            Self::Credit => "would have defaulted",
            Self::Response => "would have answered",
            Self::Other => "would have had the event",
        }
    }

    /// What the others did.
    pub fn other_verb(self) -> &'static str {
        match self {
            Self::Churn => "stayed",
            Self::Credit => "paid",
            Self::Response => "did not answer",
            Self::Other => "did not have it",
        }
    }

    /// Acting on a customer, as a plain verb: “ring”.
    pub fn act(self) -> &'static str {
        match self {
            Self::Churn => "make the offer to",
            Self::Credit => "decline",
            Self::Response => "contact",
            Self::Other => "act on",
        }
    }

    /// Customers with the event, as a noun in the plural: “leavers”.
    pub fn events_noun(self) -> &'static str {
        match self {
            Self::Churn => "leavers",
            Self::Credit => "defaulters",
            Self::Response => "responders",
            Self::Other => "events",
        }
    }
}

impl std::str::FromStr for Question {
    type Err = String;

    fn from_str(word: &str) -> Result<Self, String> {
        Self::ALL.into_iter().find(|q| q.word() == word).ok_or_else(|| format!("“{word}” is not a kind of question"))
    }
}
