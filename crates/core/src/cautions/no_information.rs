//! A predictor that never varies, differs for everybody, or is hardly ever there.

use super::{Caution, CautionInput, Remedy};
use crate::study::CautionKind;
use crate::study::Verdict;
use pronoia_data::number::count;
use pronoia_data::sentence::capital;

pub(super) fn look(seen: &CautionInput) -> Vec<Caution> {
    let doubted = seen.state.columns.iter().filter(|c| c.goes_in() && c.verdict == Verdict::ShouldNotGoIn);
    doubted
        .map(|choice| {
            let figures = seen.profile.column(&choice.name).map_or(String::new(), |profile| {
                let rows = seen.profile.rows;
                let filled = count(rows - profile.missing);
                match profile.mode() {
                    _ if profile.distinct == 1 => format!(" All {filled} values are the same."),
                    Some((value, n)) if profile.distinct < rows / 2 => {
                        format!(" {} of {} rows have “{value}”.", count(n), count(rows))
                    }
                    _ => format!(" There are {} different values in {filled} rows.", count(profile.distinct)),
                }
            });
            Caution {
                rule: CautionKind::NoInformation,
                about: choice.name.clone(),
                heading: format!("{} carries no information", choice.name),
                evidence: format!("{}.{figures}", capital(&choice.reason)),
                remedy: Remedy::LeaveOut { column: choice.name.clone() },
            }
        })
        .collect()
}
