//! Customers prepared once, whose columns can then be exchanged without preparing them again.

use super::{ExplainedCustomers, players};
use crate::model::Model;
use pronoia_data::stats::sigmoid;
use pronoia_learn::prepare::{Design, PrepareError};

/// Customers as every member of a model receives them.
pub(super) struct Prepared<'a> {
    model: &'a Model,
    /// A design per member, with the column that each of its features was made of.
    sides: Vec<(Design, Vec<usize>)>,
    rows: usize,
}

impl<'a> Prepared<'a> {
    /// Prepares customers; `columns` are those that the model takes, steps taken.
    pub(super) fn of(
        model: &'a Model,
        columns: &[String],
        customers: ExplainedCustomers,
    ) -> Result<Self, PrepareError> {
        let prepare = |member: &crate::model::EnsembleMember| {
            let design = member.preparation.apply(customers.table, customers.rows)?;
            let of_feature = players(&design, columns);
            Ok((design, of_feature))
        };
        let sides = model.members.iter().map(prepare).collect::<Result<_, PrepareError>>()?;
        Ok(Self { model, sides, rows: customers.rows.len() })
    }

    /// Log-odds of the customers as they are, calibrated.
    pub(super) fn log_odds(&self) -> Vec<f64> {
        self.model.log_odds_of(&self.sides.iter().map(|(design, _)| design).collect::<Vec<_>>())
    }

    /// Log-odds of as many customers as `own` has entries: each has its columns from one customer,
    /// but those in `from` from others.
    pub(super) fn exchanged(&self, own: &[usize], from: &[(usize, &[usize])]) -> Vec<f64> {
        let rows_of = |column: usize| from.iter().find(|(there, _)| *there == column).map_or(own, |(_, rows)| *rows);
        let mixed: Vec<Design> = self
            .sides
            .iter()
            .map(|(design, columns)| design.take_by_feature(own.len(), |feature| rows_of(columns[feature]).to_vec()))
            .collect();
        self.model.log_odds_of(&mixed.iter().collect::<Vec<_>>())
    }

    /// All customers, in order.
    pub(super) fn all(&self) -> Vec<usize> {
        (0..self.rows).collect()
    }
}

/// Probabilities of log-odds.
pub(super) fn probabilities(log_odds: Vec<f64>) -> Vec<f64> {
    log_odds.into_iter().map(sigmoid).collect()
}
