//! Parts of the rows that take turns in being judged.

/// One turn: places, among the rows that were dealt into folds, of those that are
/// judged and of all others, which are learned from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fold {
    /// Places of the rows judged, ascending.
    pub judged: Vec<usize>,
    /// Places of the rows learned from, ascending.
    pub learned: Vec<usize>,
}

impl Fold {
    /// Every turn in order; `of_row[i]` is the fold of row `i`.
    pub fn of(of_row: &[usize]) -> impl ExactSizeIterator<Item = Self> {
        let folds = of_row.iter().max().map_or(0, |most| most + 1);
        (0..folds).map(|fold| {
            let (judged, learned) = (0..of_row.len()).partition(|&at| of_row[at] == fold);
            Self { judged, learned }
        })
    }

    /// The values of the rows judged.
    pub fn of_judged<T: Copy>(&self, values: &[T]) -> Vec<T> {
        self.judged.iter().map(|&at| values[at]).collect()
    }

    /// The values of the rows learned from.
    pub fn of_learned<T: Copy>(&self, values: &[T]) -> Vec<T> {
        self.learned.iter().map(|&at| values[at]).collect()
    }

    /// Puts what was told of the rows judged in its places among all.
    pub fn put<T>(&self, told: impl IntoIterator<Item = T>, all: &mut [T]) {
        self.judged.iter().zip(told).for_each(|(&at, told)| all[at] = told);
    }
}
