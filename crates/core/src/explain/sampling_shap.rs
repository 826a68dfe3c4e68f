//! Reasons found by lot, for models that leave no other way.
//!
//! Columns are made known one after the other, in an order drawn by lot and then in the reverse
//! order, against a customer of the background drawn by lot; a reason is the mean of what its column
//! changed (Štrumbelj & Kononenko 2014; pairs of opposite orders after Mitchell et al. 2022).

use rand::seq::SliceRandom;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use super::{ExplainedCustomers, Reasons, ScoreUnit, ShapleyMethod, players};
use crate::model::Model;
use pronoia_learn::prepare::{Design, PrepareError};

/// Pairs of opposite orders per customer.
const ORDERS: usize = 150;

/// A design of the customers, one of the background, and the column of every feature.
struct SampledDesign {
    customers: Design,
    background: Design,
    columns: Vec<usize>,
}

pub(super) fn reasons(
    model: &Model,
    columns: &[String],
    customers: ExplainedCustomers,
    background: ExplainedCustomers,
    seed: u64,
) -> Result<Reasons, PrepareError> {
    let sides = model
        .members
        .iter()
        .map(|member| {
            let customers = member.preparation.apply(customers.table, customers.rows)?;
            let background = member.preparation.apply(background.table, background.rows)?;
            let columns = players(&customers, columns);
            Ok(SampledDesign { customers, background, columns })
        })
        .collect::<Result<Vec<_>, PrepareError>>()?;
    let rows = |of: fn(&SampledDesign) -> usize| sides.first().map_or(0, of);
    let (others, width) = (rows(|side| side.background.rows()), columns.len());
    let everyone = |of: fn(&SampledDesign) -> &Design| -> Vec<f64> {
        let designs: Vec<&Design> = sides.iter().map(of).collect();
        model.scores(&designs)
    };
    let usual = everyone(|side| &side.background);
    let base = usual.iter().sum::<f64>() / others.max(1) as f64;
    let scores = everyone(|side| &side.customers);
    let (mut of, mut errors) = (Vec::new(), Vec::new());
    for (customer, score) in scores.iter().enumerate() {
        let mut rng = ChaCha8Rng::seed_from_u64(seed.wrapping_add(customer as u64));
        let orders: Vec<(usize, Vec<usize>)> = (0..ORDERS)
            .flat_map(|_| {
                let mut order: Vec<usize> = (0..width).collect();
                order.shuffle(&mut rng);
                let other = rng.random_range(0..others.max(1));
                let reverse = order.iter().rev().copied().collect();
                [(other, order), (other, reverse)]
            })
            .collect();
        let known = known_step_by_step(&orders, width);
        let mixed: Vec<Design> = sides.iter().map(|side| side.mixed(customer, &orders, &known, width)).collect();
        let told = model.scores(&mixed.iter().collect::<Vec<_>>());
        // Per pair of orders, what each column changed.
        let mut changes = vec![vec![0.0; width]; ORDERS];
        for (at, (_, order)) in orders.iter().enumerate() {
            for (step, &column) in order.iter().enumerate() {
                let from = at * (width + 1) + step;
                changes[at / 2][column] += (told[from + 1] - told[from]) / 2.0;
            }
        }
        let n = ORDERS as f64;
        let mean = |column: usize| changes.iter().map(|c| c[column]).sum::<f64>() / n;
        let mut reasons: Vec<f64> = (0..width).map(mean).collect();
        let error = |column: usize| {
            let squares: f64 = changes.iter().map(|c| (c[column] - reasons[column]).powi(2)).sum();
            (squares / (n - 1.0) / n).sqrt()
        };
        let of_customer: Vec<f64> = (0..width).map(error).collect();
        // The background was drawn, so that the sum is off by as much as its mean is; that is
        // shared out by how unsure each reason is, and nothing that is not used gets any.
        let off = score - base - reasons.iter().sum::<f64>();
        let variances: f64 = of_customer.iter().map(|e| e * e).sum();
        if variances > 0.0 {
            reasons.iter_mut().zip(&of_customer).for_each(|(r, e)| *r += off * e * e / variances);
        }
        of.push(reasons);
        errors.push(of_customer);
    }
    let (unit, method) = (ScoreUnit::LogOdds, ShapleyMethod::Drawn);
    Ok(Reasons { unit, method, columns: vec![], base, of, errors: Some(errors), scores, probability: vec![] })
}

/// For every order, and every step of it, which columns are known.
fn known_step_by_step(orders: &[(usize, Vec<usize>)], width: usize) -> Vec<bool> {
    let mut known = Vec::with_capacity(orders.len() * (width + 1) * width);
    for (_, order) in orders {
        let mut now = vec![false; width];
        known.extend_from_slice(&now);
        for &column in order {
            now[column] = true;
            known.extend_from_slice(&now);
        }
    }
    known
}

impl SampledDesign {
    /// One row for every step of every order: known columns are those of the customer, the others
    /// those of the customer of the background.
    fn mixed(&self, customer: usize, orders: &[(usize, Vec<usize>)], known: &[bool], width: usize) -> Design {
        let own = self.customers.rows();
        let both = self.customers.clone().followed_by(&self.background);
        let steps = orders.len() * (width + 1);
        let from = |column: usize| -> Vec<usize> {
            let row = |step: usize| {
                let other = own + orders[step / (width + 1)].0;
                if known[step * width + column] { customer } else { other }
            };
            (0..steps).map(row).collect()
        };
        both.take_by_feature(steps, |feature| from(self.columns[feature]))
    }
}
