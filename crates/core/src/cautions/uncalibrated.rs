//! Scores that are read as probabilities and are none.

use super::{Caution, CautionedCandidate, Remedy};
use crate::study::CautionKind;
use pronoia_data::number::{count, percent};

/// Groups that may fail to hold; of ten that do, so many fail in one of a thousand cases.
const MAY_FAIL: usize = 3;

/// Mean distance between what was said and what happened, as a share of the overall
/// rate, that matters to a decision. Among many rows less is beyond chance, too.
const MATTERS: f64 = 0.1;

pub(super) fn look(candidate: &CautionedCandidate) -> Option<Caution> {
    let evaluation = candidate.evaluation;
    let groups = &evaluation.calibration;
    let failed = groups.iter().filter(|group| !group.holds()).count();
    let apart = |group: &pronoia_data::evaluate::CalibrationGroup| (group.mean_probability - group.rate()).abs();
    let rows = evaluation.rows.max(1) as f64;
    let mean = groups.iter().map(|group| apart(group) * group.rows as f64).sum::<f64>() / rows;
    let rate = evaluation.events as f64 / rows;
    if failed <= MAY_FAIL || mean < MATTERS * rate {
        return None;
    }
    // Where a map was chosen already, the rows judged are unlike those it was chosen on.
    let calibrated =
        candidate.model.blended.is_some() || candidate.model.members.iter().any(|m| m.calibrated.is_some());
    let worst = groups.iter().filter(|g| !g.holds()).max_by(|a, b| apart(a).total_cmp(&apart(b)))?;
    Some(Caution {
        rule: CautionKind::Uncalibrated,
        about: candidate.name.into(),
        heading: format!("{}: not calibrated", candidate.name),
        evidence: format!(
            "In {failed} of {} groups of customers the mean predicted probability lies outside the 95 % CI of the observed rate. For {} customers the mean predicted probability is {}, and {} had the event.{}",
            groups.len(),
            count(worst.rows),
            percent(worst.mean_probability),
            percent(worst.rate()),
            if calibrated { " It is calibrated, on rows that differ from these." } else { "" }
        ),
        remedy: if calibrated { Remedy::Retire } else { Remedy::Calibrate },
    })
}
