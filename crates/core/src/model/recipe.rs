//! What a candidate is made by: one family, or several together.

use serde::{Deserialize, Serialize};

use pronoia_learn::learn::Settings;

/// What a candidate is made by.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Recipe {
    /// One family with its settings.
    One(Settings),
    /// The same, calibrated though it was fitted by the likelihood of single rows.
    Calibrated {
        /// The family with its settings.
        calibrated: Settings,
    },
    /// Several together.
    Blend(Ensemble),
}

/// Several families that are asked together.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Ensemble {
    /// How much each counts.
    pub mix: Mix,
    /// The families with their settings.
    pub members: Vec<Settings>,
}

/// How much each member of a blend counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Mix {
    /// All the same.
    Average,
    /// As much as rows that members had not met say that it should, and never
    /// less than nothing (Wolpert 1992; Breiman 1996).
    Stacked,
}

impl Mix {
    /// Both, in the order in which pages offer them.
    pub const ALL: [Mix; 2] = [Self::Average, Self::Stacked];

    /// The word for it on the command line and in forms.
    pub fn word(self) -> &'static str {
        match self {
            Self::Average => "average",
            Self::Stacked => "stacked",
        }
    }
}

impl std::str::FromStr for Mix {
    type Err = String;

    fn from_str(word: &str) -> Result<Self, String> {
        Self::ALL
            .into_iter()
            .find(|mix| mix.word() == word)
            .ok_or_else(|| format!("An ensemble is average or stacked, not “{word}”."))
    }
}

impl Ensemble {
    /// Members that a blend has at most.
    pub const MOST: usize = 8;

    /// Puts families together.
    ///
    /// # Errors
    /// A sentence if there are too few or too many, or two are the same.
    pub fn new(mix: Mix, members: Vec<Settings>) -> Result<Self, String> {
        if !(2..=Self::MOST).contains(&members.len()) {
            return Err(format!("An ensemble has 2 to {} members; {} were chosen.", Self::MOST, members.len()));
        }
        for (at, member) in members.iter().enumerate() {
            if members[..at].contains(member) {
                return Err(format!(
                    "Two of the members are {} with the same settings; together they add nothing to one of them.",
                    member.name().to_lowercase()
                ));
            }
        }
        Ok(Self { mix, members })
    }
}

impl Recipe {
    /// The families that take part.
    pub fn members(&self) -> &[Settings] {
        match self {
            Self::One(settings) | Self::Calibrated { calibrated: settings } => std::slice::from_ref(settings),
            Self::Blend(blend) => &blend.members,
        }
    }

    /// What such a candidate is called.
    pub fn name(&self) -> &'static str {
        match self {
            Self::One(settings) | Self::Calibrated { calibrated: settings } => settings.name(),
            Self::Blend(Ensemble { mix: Mix::Average, .. }) => "Average ensemble",
            Self::Blend(Ensemble { mix: Mix::Stacked, .. }) => "Stacked ensemble",
        }
    }
}

impl From<Settings> for Recipe {
    fn from(settings: Settings) -> Self {
        Self::One(settings)
    }
}

impl From<&Settings> for Recipe {
    fn from(settings: &Settings) -> Self {
        Self::One(settings.clone())
    }
}

impl From<&Recipe> for Recipe {
    fn from(recipe: &Recipe) -> Self {
        recipe.clone()
    }
}
