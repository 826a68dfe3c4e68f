//! Features as sums run over them: numbers as they are, indicators of one column as one code.
//!
//! Of the indicators of a category at most one is 1 in a row. Products with them are
//! sums over the rows in which they are, and products of two of them nothing.

use rayon::prelude::*;

use crate::prepare::Design;

/// The code of a row in which no indicator of the column is 1.
pub(super) const NONE: u16 = u16::MAX;

/// The features of a design.
pub(super) struct DesignColumns<'d> {
    /// Position and values of those that are added up as numbers.
    pub numbers: Vec<(usize, &'d [f64])>,
    /// Those that are added up as codes.
    pub codes: Vec<Codes>,
}

/// Indicators of one column, of which at most one is 1 in a row.
pub(super) struct Codes {
    /// Position of the indicator that each code stands for.
    pub features: Vec<usize>,
    /// One code per row.
    pub of_row: Vec<u16>,
}

impl<'d> DesignColumns<'d> {
    /// Finds the indicators of a design.
    pub fn of(design: &'d Design) -> Self {
        let features = design.features();
        let mut runs: Vec<Vec<usize>> = Vec::new();
        for (at, feature) in features.iter().enumerate() {
            match runs.last_mut() {
                Some(run) if features[run[0]].column == feature.column => run.push(at),
                _ => runs.push(vec![at]),
            }
        }
        let found: Vec<(Vec<usize>, Option<Codes>)> = runs
            .into_par_iter()
            .map(|run| {
                let codes = Codes::of(design, &run);
                (run, codes)
            })
            .collect();
        let mut columns = Self { numbers: Vec::new(), codes: Vec::new() };
        for (run, codes) in found {
            match codes {
                Some(codes) => columns.codes.push(codes),
                None => columns.numbers.extend(run.into_iter().map(|at| (at, features[at].numbers()))),
            }
        }
        columns
    }
}

impl Codes {
    /// None if these features are not indicators, or two are 1 in one row; a single
    /// one is no faster as a code.
    fn of(design: &Design, run: &[usize]) -> Option<Self> {
        if run.len() < 2 || run.len() >= usize::from(NONE) {
            return None;
        }
        let mut of_row = vec![NONE; design.rows()];
        for (code, &at) in run.iter().enumerate() {
            for (row, &x) in design.features()[at].numbers().iter().enumerate() {
                if x == 1.0 && of_row[row] == NONE {
                    of_row[row] = code as u16;
                } else if x != 0.0 {
                    return None;
                }
            }
        }
        Some(Self { features: run.to_vec(), of_row })
    }
}
