//! What each column is for, guessed with a reason and confirmed by the analyst.

use serde::{Deserialize, Serialize};

use pronoia_data::Kind;
use pronoia_data::profile::{ColumnProfile, TableProfile};

/// What a column does in a study.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ColumnRole {
    /// The model may use it.
    Predictor,
    /// Says what happened.
    Outcome,
    /// Names the customer.
    Identifier,
    /// Money of the customer, used to price an action.
    Money,
    /// Says how much the row counts.
    CaseWeight,
    /// Says when; used to split by time.
    Time,
    /// Says who is judged on what.
    SplitMarker,
    /// Must not decide, is used to compare groups.
    Sensitive,
    /// Kept aside.
    LeftOut,
}

impl ColumnRole {
    /// Every role, in the order in which the pages offer them.
    pub const ALL: [ColumnRole; 9] = [
        ColumnRole::Predictor,
        ColumnRole::Outcome,
        ColumnRole::Identifier,
        ColumnRole::Money,
        ColumnRole::CaseWeight,
        ColumnRole::Time,
        ColumnRole::SplitMarker,
        ColumnRole::Sensitive,
        ColumnRole::LeftOut,
    ];

    /// The word for it on the pages.
    pub fn word(self) -> &'static str {
        match self {
            ColumnRole::Predictor => "predictor",
            ColumnRole::Outcome => "outcome",
            ColumnRole::Identifier => "identifier",
            ColumnRole::Money => "money value",
            ColumnRole::CaseWeight => "fit weight",
            ColumnRole::Time => "time",
            ColumnRole::SplitMarker => "split column",
            ColumnRole::Sensitive => "sensitive attribute",
            ColumnRole::LeftOut => "excluded",
        }
    }
}

impl std::str::FromStr for ColumnRole {
    type Err = String;

    /// Also reads the words of 0.1.0, which programs may still send.
    fn from_str(word: &str) -> Result<Self, String> {
        match word {
            "case weight" => Ok(ColumnRole::CaseWeight),
            "split marker" => Ok(ColumnRole::SplitMarker),
            "left out" => Ok(ColumnRole::LeftOut),
            _ => {
                ColumnRole::ALL.into_iter().find(|r| r.word() == word).ok_or_else(|| format!("“{word}” is not a role"))
            }
        }
    }
}

/// When the value of a column became known, seen from the decision.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KnownWhen {
    /// Well before.
    Before,
    /// At the moment of the decision.
    AtDecision,
    /// Only afterwards: it cannot be used.
    Afterwards,
    /// Nobody has said.
    Unsure,
}

impl KnownWhen {
    /// Every answer, in the order in which the pages offer them.
    pub const ALL: [KnownWhen; 4] = [Self::Before, Self::AtDecision, Self::Afterwards, Self::Unsure];

    /// The word for it on the pages.
    pub fn word(self) -> &'static str {
        match self {
            Self::Before => "before",
            Self::AtDecision => "at the decision",
            Self::Afterwards => "afterwards",
            Self::Unsure => "unsure",
        }
    }
}

impl std::str::FromStr for KnownWhen {
    type Err = String;

    fn from_str(word: &str) -> Result<Self, String> {
        Self::ALL
            .into_iter()
            .find(|k| k.word() == word)
            .ok_or_else(|| format!("“{word}” is not an answer to “known when”"))
    }
}

/// Under which heading a column stands on the Prepare page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// As a predictor it would make the answer wrong.
    ShouldNotGoIn,
    /// The analyst must say.
    AskedAbout,
    /// Nothing speaks against it.
    GoesIn,
    /// Has another part to play.
    KeptAside,
}

/// What is chosen for one column, or proposed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ColumnChoice {
    /// The column.
    pub name: String,
    /// Its part in the study.
    pub role: ColumnRole,
    /// When it was known.
    pub known_when: KnownWhen,
    /// The heading it stands under.
    pub verdict: Verdict,
    /// Why, in a few words.
    pub reason: String,
    /// Whether it cannot be right as a predictor, whatever anybody says: a
    /// constant, or a value that names the customer.
    pub never: bool,
}

impl ColumnChoice {
    /// Whether the model may see it.
    pub fn goes_in(&self) -> bool {
        self.role == ColumnRole::Predictor && self.known_when != KnownWhen::Afterwards
    }

    /// The heading it stands under now: what is no predictor is kept aside.
    pub fn stands_under(&self) -> Verdict {
        if self.goes_in() { self.verdict } else { Verdict::KeptAside }
    }

    /// The same column left out, for the reason it was proposed.
    pub fn left_out(&self) -> Self {
        Self { role: ColumnRole::LeftOut, ..self.clone() }
    }
}

/// Strength of the association of a column with the outcome above which it is
/// asked about: a column that alone tells nearly every outcome is rarely
/// something that was known before.
const SUSPICIOUS_AREA: f64 = 0.9;

/// Proposes a role for every column, with the reason.
///
/// `probe` gives the area under ROC of a column by itself, measured on
/// training rows with cross-validation; none where it was not measured.
pub fn guess(profile: &TableProfile, outcome: &str, probe: impl Fn(&str) -> Option<f64>) -> Vec<ColumnChoice> {
    profile.columns.iter().map(|c| guess_one(c, profile.rows, outcome, probe(&c.name))).collect()
}

fn guess_one(c: &ColumnProfile, rows: u64, outcome: &str, area: Option<f64>) -> ColumnChoice {
    use Verdict::{AskedAbout, GoesIn, KeptAside, ShouldNotGoIn};
    let filled = rows.saturating_sub(c.missing);
    let share_missing = c.missing as f64 / rows.max(1) as f64;
    let all_distinct = filled > 20 && c.distinct as f64 > filled as f64 * 0.98;
    let choice = |role, known_when, verdict, reason: String| ColumnChoice {
        name: c.name.clone(),
        role,
        known_when,
        verdict,
        reason,
        never: false,
    };
    let never = |reason: &str| ColumnChoice {
        never: true,
        ..choice(ColumnRole::Predictor, KnownWhen::Before, ShouldNotGoIn, reason.into())
    };
    let identifier = |reason: &str| ColumnChoice {
        never: true,
        ..choice(ColumnRole::Identifier, KnownWhen::Before, KeptAside, reason.into())
    };
    if c.name == outcome {
        return ColumnChoice {
            never: true,
            ..choice(ColumnRole::Outcome, KnownWhen::Afterwards, KeptAside, "the outcome".into())
        };
    }
    if all_distinct && matches!(c.kind, Kind::Code | Kind::Category | Kind::Text) {
        return if has_word(&c.name, &["id", "number", "no", "key", "member", "customer"]) {
            identifier("every value different: identifies the customer")
        } else {
            never("nearly all different: no information about the next customer")
        };
    }
    if all_distinct && c.kind == Kind::Number && has_word(&c.name, &["id", "key", "ref"]) && is_whole(c) {
        return identifier("whole numbers, every one different: identifies the customer");
    }
    let names_somebody = has_word(&c.name, &["id", "key", "member", "customer", "client", "account"]);
    if names_somebody && c.kind != Kind::Date && c.distinct * 4 > filled && c.distinct > 100 && is_whole_or_word(c) {
        return identifier("identifies the customer; some have several rows");
    }
    if c.distinct == 0 {
        return never("every value is missing");
    }
    if c.distinct == 1 && c.missing == 0 {
        return never("one value everywhere");
    }
    if let Some(area) = area.map(|a| a.max(1.0 - a))
        && area > SUSPICIOUS_AREA
    {
        return choice(
            ColumnRole::Predictor,
            KnownWhen::Unsure,
            ShouldNotGoIn,
            format!(
                "possible leakage: alone it ranks {:.0} of 100 pairs correctly (AUC); probably known only afterwards",
                area * 100.0
            ),
        );
    }
    if let Some((value, n)) = c.mode()
        && n as f64 > filled as f64 * 0.995
        && c.missing == 0
    {
        return choice(
            ColumnRole::Predictor,
            KnownWhen::Before,
            ShouldNotGoIn,
            format!("“{value}” in nearly every row"),
        );
    }
    if share_missing > 0.6 {
        return choice(
            ColumnRole::Predictor,
            KnownWhen::Before,
            ShouldNotGoIn,
            format!("missing in {:.0} of 100 rows", share_missing * 100.0),
        );
    }
    if c.kind == Kind::Text {
        return choice(ColumnRole::LeftOut, KnownWhen::Before, KeptAside, "free text is not used as it is".into());
    }
    if c.kind == Kind::Date {
        return choice(ColumnRole::Time, KnownWhen::Before, KeptAside, "a date: when, not how much".into());
    }
    if has_word(&c.name, &["age", "gender", "sex", "ethnicity", "nationality", "religion", "disability"])
        && c.kind != Kind::Number
        || has_word(&c.name, &["gender", "sex", "ethnicity", "nationality", "religion", "disability"])
    {
        return choice(
            ColumnRole::Sensitive,
            KnownWhen::Before,
            KeptAside,
            "sensitive: used to compare groups, not to decide".into(),
        );
    }
    if has_word(&c.name, &["survey", "exit", "cancelled", "closed", "churned", "leaving", "reason", "login"]) {
        return choice(
            ColumnRole::Predictor,
            KnownWhen::Unsure,
            AskedAbout,
            "the name says that it may have been written after the decision".into(),
        );
    }
    if has_word(&c.name, &["weight", "weights", "gewicht"]) && c.numbers.as_ref().is_some_and(|n| n.min >= 0.0) {
        return choice(
            ColumnRole::Predictor,
            KnownWhen::Before,
            AskedAbout,
            "a weight: of the customer, or of the row? Then its role is “fit weight”".into(),
        );
    }
    if c.kind == Kind::Code && c.distinct > 200 {
        return choice(
            ColumnRole::Predictor,
            KnownWhen::Before,
            AskedAbout,
            format!("a code with {} values: too many to learn from one by one", c.distinct),
        );
    }
    let reason = match c.kind {
        Kind::Code => "digits, but a name and not a quantity".to_owned(),
        Kind::YesNo => "a yes-or-no answer".to_owned(),
        Kind::Category | Kind::Ordered => format!("{} values", c.distinct),
        _ => c.numbers.as_ref().map_or_else(String::new, |n| {
            format!("{} to {}", pronoia_data::number::plain(n.min), pronoia_data::number::plain(n.max))
        }),
    };
    choice(ColumnRole::Predictor, KnownWhen::Before, GoesIn, reason)
}

fn is_whole(c: &ColumnProfile) -> bool {
    c.numbers.as_ref().is_some_and(|n| n.min.fract() == 0.0 && n.max.fract() == 0.0 && n.median.fract() == 0.0)
}

fn is_whole_or_word(c: &ColumnProfile) -> bool {
    c.numbers.is_none() || is_whole(c)
}

/// Whether one of the words stands by itself in a column's name.
pub(crate) fn has_word(name: &str, words: &[&str]) -> bool {
    let lower = name.to_lowercase();
    lower.split(|c: char| !c.is_alphanumeric()).any(|w| words.contains(&w))
}
