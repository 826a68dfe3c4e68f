//! What influence cannot speak of: the columns that were left out.

use crate::study::StudyState;
use pronoia_data::drivers::Drivers;
use pronoia_data::number::percent;

/// Names listed at most.
const MOST: usize = 6;

/// Which columns were left out although they go with the outcome, in a
/// sentence; none if there is no such column.
pub fn excluded_columns(state: &StudyState, drivers: &Drivers) -> Option<String> {
    let out = |name: &str| state.columns.iter().any(|c| c.name == name && !c.goes_in());
    let left: Vec<String> = drivers
        .columns
        .iter()
        .filter(|d| d.believed && out(&d.column))
        .map(|d| format!("{} ({} of the outcome entropy)", d.column, percent(d.share)))
        .collect();
    let more = left.len().saturating_sub(MOST);
    let named = left.into_iter().take(MOST).collect::<Vec<_>>().join(", ");
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    (!named.is_empty()).then(|| {
        format!("Excluded from the models: {named}{more}. A column without importance here may matter all the same.")
    })
}
