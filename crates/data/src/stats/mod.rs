//! Statistics that everything else stands on: counts and their rates, association, log-odds, quantiles.

mod association;
mod counts;
mod moments;
mod odds;

pub use association::{correlation, entropy, information_value, likelihood_ratio_p_value, mutual_information};
pub use counts::{Count, Z90, Z95, chi_square, total, wilson};
pub use moments::{mean, quantile, standard_error};
pub use odds::{log_loss_of_log_odds, logit, sigmoid};
