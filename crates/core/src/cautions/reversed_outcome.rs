//! The other value of the outcome is probably meant.

use super::{Caution, CautionInput, Remedy};
use crate::study::CautionKind;
use pronoia_data::number::{count, percent};
use pronoia_decide::question::Question;

/// Values that say that nothing happened.
const NOTHING: [&str; 12] =
    ["no", "n", "false", "0", "stayed", "active", "current", "paid", "good", "none", "nein", "non"];

pub(super) fn look(seen: &CautionInput) -> Vec<Caution> {
    let Some(outcome) = &seen.state.outcome else { return Vec::new() };
    let Some(profile) = seen.profile.column(&outcome.column) else { return Vec::new() };
    let Some(event) = outcome.event.value().filter(|_| profile.distinct == 2) else { return Vec::new() };
    let Some((other, _)) = profile.top.iter().find(|(value, _)| value != event) else { return Vec::new() };
    let known = seen.profile.rows - profile.missing;
    let events = profile.top.iter().find(|(value, _)| value == event).map_or(0, |t| t.1);
    let frequent = seen.question != Question::Other && events * 2 > known;
    let says_nothing = |value: &str| NOTHING.contains(&value.to_lowercase().as_str());
    let negative = says_nothing(event) && !says_nothing(other);
    if !negative && !frequent {
        return Vec::new();
    }
    let verb = seen.question.event_verb();
    vec![Caution {
        rule: CautionKind::ReversedOutcome,
        about: outcome.column.clone(),
        heading: format!("“{event}” may not be the event"),
        evidence: format!(
            "As it stands, {} of {} customers ({}) {verb}: those whose {} is “{event}”.",
            count(events),
            count(known),
            percent(events as f64 / known.max(1) as f64),
            outcome.column
        ),
        remedy: Remedy::OtherEvent { event: other.clone() },
    }]
}
