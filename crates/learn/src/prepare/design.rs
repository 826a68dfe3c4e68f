//! Rows exactly as the estimator receives them.

/// Features of equal length, in a fixed order.
#[derive(Debug, Clone, Default)]
pub struct Design {
    features: Vec<Feature>,
    rows: usize,
}

/// One feature: what it is called, from which column it comes, its values.
#[derive(Debug, Clone)]
pub struct Feature {
    /// Its name: the column's, or the column's with a level.
    pub name: String,
    /// The column it was made of.
    pub column: String,
    /// Its values.
    pub values: FeatureValues,
}

/// The values of a feature.
#[derive(Debug, Clone)]
pub enum FeatureValues {
    /// Quantities; NaN is missing where the encoding leaves gaps.
    Number(Vec<f64>),
    /// Levels by code.
    Levels {
        /// Number of known levels; codes below it are known.
        count: usize,
        /// Code per row, or [`Feature::MISSING`], or [`Feature::UNKNOWN`].
        codes: Vec<u32>,
    },
}

impl Feature {
    /// Code of a missing value.
    pub const MISSING: u32 = u32::MAX;
    /// Code of a value without an entry of its own.
    pub const UNKNOWN: u32 = u32::MAX - 1;

    /// A numeric feature.
    pub fn number(name: &str, column: &str, values: Vec<f64>) -> Self {
        Self { name: name.into(), column: column.into(), values: FeatureValues::Number(values) }
    }

    /// A feature of levels.
    pub fn levels(name: &str, column: &str, count: usize, codes: Vec<u32>) -> Self {
        Self { name: name.into(), column: column.into(), values: FeatureValues::Levels { count, codes } }
    }

    /// Only the rows given, in the order given.
    fn take(&self, rows: &[usize]) -> Self {
        let values = match &self.values {
            FeatureValues::Number(v) => FeatureValues::Number(rows.iter().map(|&r| v[r]).collect()),
            FeatureValues::Levels { count, codes } => {
                FeatureValues::Levels { count: *count, codes: rows.iter().map(|&r| codes[r]).collect() }
            }
        };
        Self { name: self.name.clone(), column: self.column.clone(), values }
    }

    /// The numbers; empty for levels.
    pub fn numbers(&self) -> &[f64] {
        match &self.values {
            FeatureValues::Number(v) => v,
            FeatureValues::Levels { .. } => &[],
        }
    }
}

impl Design {
    /// Puts features together; each must have `rows` values.
    pub fn new(features: Vec<Feature>, rows: usize) -> Self {
        debug_assert!(features.iter().all(|f| match &f.values {
            FeatureValues::Number(v) => v.len() == rows,
            FeatureValues::Levels { codes, .. } => codes.len() == rows,
        }));
        Self { features, rows }
    }

    /// Number of rows.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// The features in order.
    pub fn features(&self) -> &[Feature] {
        &self.features
    }

    /// These rows and then those of another design of the same features.
    pub fn followed_by(mut self, other: &Design) -> Self {
        for (feature, more) in self.features.iter_mut().zip(&other.features) {
            match (&mut feature.values, &more.values) {
                (FeatureValues::Number(values), FeatureValues::Number(more)) => values.extend_from_slice(more),
                (FeatureValues::Levels { codes, .. }, FeatureValues::Levels { codes: more, .. }) => {
                    codes.extend_from_slice(more);
                }
                _ => debug_assert!(false, "designs of different features"),
            }
        }
        self.rows += other.rows;
        self
    }

    /// Only the rows given, in the order given.
    pub fn take(&self, rows: &[usize]) -> Self {
        Self { features: self.features.iter().map(|f| f.take(rows)).collect(), rows: rows.len() }
    }

    /// Rows put together of the features of several: `rows_of` gives, for every feature, the row
    /// that each of `rows` new ones has it from.
    pub fn take_by_feature(&self, rows: usize, rows_of: impl Fn(usize) -> Vec<usize>) -> Self {
        let features = self.features.iter().enumerate().map(|(at, f)| f.take(&rows_of(at))).collect();
        Self::new(features, rows)
    }
}
