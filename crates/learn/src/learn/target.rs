//! What a classifier is to learn: outcomes, and how much each row counts.

/// The outcome of every row of a design.
#[derive(Debug, Clone, PartialEq)]
pub struct Target {
    /// Whether it happened.
    pub event: Vec<bool>,
    /// How much each row counts; every row once without them.
    pub weight: Option<Vec<f64>>,
    /// The two rows that each synthetic row was made from. Synthetic rows come
    /// after all real ones.
    pub parents: Vec<[usize; 2]>,
    /// Whether the rows were weighed, drawn or made up to even the classes
    /// out, so that standard errors would mean nothing.
    pub balanced: bool,
}

impl Target {
    /// Real rows that count once each.
    pub fn plain(event: Vec<bool>) -> Self {
        Self { event, weight: None, parents: Vec::new(), balanced: false }
    }

    /// Number of rows.
    pub fn rows(&self) -> usize {
        self.event.len()
    }

    /// Rows that are not synthetic; they come first.
    pub fn real_rows(&self) -> usize {
        self.event.len() - self.parents.len()
    }

    /// How much a row counts.
    pub fn weight(&self, row: usize) -> f64 {
        self.weight.as_ref().map_or(1.0, |w| w[row])
    }

    /// How much all rows with this outcome count together.
    pub fn total(&self, event: bool) -> f64 {
        (0..self.rows()).filter(|&row| self.event[row] == event).map(|row| self.weight(row)).sum()
    }

    /// The weighted share of events.
    pub fn rate(&self) -> f64 {
        let events = self.total(true);
        events / (events + self.total(false))
    }

    /// Only the rows given; of synthetic ones only whether it happened.
    pub fn take(&self, rows: &[usize]) -> Self {
        Self {
            event: rows.iter().map(|&row| self.event[row]).collect(),
            weight: self.weight.as_ref().map(|w| rows.iter().map(|&row| w[row]).collect()),
            parents: Vec::new(),
            balanced: self.balanced,
        }
    }

    /// The rows that are fitted to while some real rows are held back. A synthetic
    /// row knows of both rows that it was made from, and is held back with either.
    pub fn rows_without(&self, held_back: impl Fn(usize) -> bool) -> Vec<usize> {
        let real = self.real_rows();
        let knows = |row: usize| match row.checked_sub(real) {
            None => held_back(row),
            Some(made) => self.parents[made].iter().any(|&parent| held_back(parent)),
        };
        (0..self.rows()).filter(|&row| !knows(row)).collect()
    }

    /// The rows given, which the others are judged on while they are fitted to:
    /// weighed so that events count among them as much as among all, which may
    /// have been balanced.
    pub fn held_back(&self, rows: &[usize]) -> Self {
        let mut held = self.take(rows);
        if self.balanced {
            let scale = |event: bool| self.total(event) / held.total(event);
            let (events, others) = (scale(true), scale(false));
            let weigh = |row: usize| held.weight(row) * if held.event[row] { events } else { others };
            held.weight = Some((0..held.rows()).map(weigh).collect());
        }
        held
    }
}
