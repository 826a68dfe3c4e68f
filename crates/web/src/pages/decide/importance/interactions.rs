//! Two columns that a model takes together.

use pronoia_core::Kind;
use pronoia_core::explain::JointEffect;
use pronoia_core::validation::ModelImportance;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;

use super::ImportanceQuery;
use super::partial_dependence::written;
use crate::frame::encoded;

/// Pairs that are listed.
const LISTED: usize = 6;

/// Log-odds beyond a sum below which two columns are one.
const A_SUM: f64 = 0.005;

/// Shades of a map.
const SHADES: f64 = 8.0;

/// Customers in a cell below which it is hardly covered.
const SPARSE: u64 = 20;

/// The pairs, and the map of one.
pub struct Together {
    pub finding: String,
    pub pairs: Vec<PairLine>,
    pub columns: Vec<String>,
    pub map: Option<DependenceMap>,
}

/// A pair that is offered.
pub struct PairLine {
    pub columns: [String; 2],
    pub href: String,
    pub open: bool,
    pub beyond: String,
}

/// What the model says over the values of two columns.
pub struct DependenceMap {
    pub down: String,
    pub across: String,
    pub across_labels: Vec<String>,
    pub rows: Vec<(String, Vec<DependenceCell>)>,
    /// Where a region of them can be made a column.
    pub region: String,
}

/// A cell of the map.
pub struct DependenceCell {
    pub average: String,
    pub rows: String,
    pub shade: usize,
    pub sparse: bool,
}

impl Together {
    /// `kind` knows how a column is written.
    pub fn of(
        found: &ModelImportance,
        joint: Option<&JointEffect>,
        (view, kind): (&StudyView, &dyn Fn(&str) -> Kind),
        asked: &ImportanceQuery,
        base: &str,
        mut columns: Vec<String>,
    ) -> Self {
        let striking = || found.interactions.iter().filter(|interaction| interaction.beyond >= A_SUM);
        let pairs = striking().take(LISTED).map(|interaction| PairLine {
            href: format!("{}#together", asked.at_pair(base, &interaction.columns)),
            open: joint.is_some_and(|joint| joint.columns == interaction.columns),
            beyond: text::fixed(interaction.beyond, 2),
            columns: interaction.columns.clone(),
        });
        let finding = match striking().next() {
            None if found.interactions.is_empty() => "Interactions need two important columns.".into(),
            None => "The model is additive; it has no interactions.".into(),
            Some(first) => {
                let [down, across] = &first.columns;
                format!(
                    "Strongest interaction among the important columns: {down} and {across}, {} of log-odds beyond the sum of the two.",
                    text::fixed(first.beyond, 2)
                )
            }
        };
        columns.sort();
        Self { finding, pairs: pairs.collect(), columns, map: joint.map(|joint| DependenceMap::of(joint, view, kind)) }
    }
}

impl DependenceMap {
    fn of(joint: &JointEffect, view: &StudyView, kind: &dyn Fn(&str) -> Kind) -> Self {
        let [down, across] = &joint.columns;
        let width = joint.values[1].len();
        let most = joint.average.iter().copied().fold(f64::MIN_POSITIVE, f64::max);
        let cell = |at: usize| DependenceCell {
            average: text::percent(joint.average[at]),
            rows: text::count(joint.count[at].rows),
            shade: (joint.average[at] / most * SHADES).round() as usize,
            sparse: joint.count[at].rows < SPARSE,
        };
        let label = |at, column: &str| written(at, kind(column));
        let rows = joint.values[0].iter().enumerate();
        Self {
            rows: rows.map(|(i, at)| (label(at, down), (0..width).map(|j| cell(i * width + j)).collect())).collect(),
            across_labels: joint.values[1].iter().map(|at| label(at, across)).collect(),
            region: format!("{}?down={}&across={}", view.href("drivers/together"), encoded(down), encoded(across)),
            down: down.clone(),
            across: across.clone(),
        }
    }
}
