//! What influence cannot speak of: the columns that were left out.

use crate::study::StudyState;
use pronoia_data::drivers::Drivers;
use pronoia_data::number::percent;

/// Names listed at most.
const MOST: usize = 6;

/// Which columns were left out although they go with the outcome, in a
/// sentence; none if there is no such column.
pub fn left_out(state: &StudyState, drivers: &Drivers) -> Option<String> {
    let out = |name: &str| state.columns.iter().any(|c| c.name == name && !c.goes_in());
    let left: Vec<String> = drivers
        .columns
        .iter()
        .filter(|d| d.believed && out(&d.column))
        .map(|d| format!("{} ({} of what there is to know)", d.column, percent(d.share)))
        .collect();
    let more = left.len().saturating_sub(MOST);
    let named = left.into_iter().take(MOST).collect::<Vec<_>>().join(", ");
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    (!named.is_empty()).then(|| {
        format!("No model was shown {named}{more}. That a column is not among the influences does not mean that it does not matter.")
    })
}
