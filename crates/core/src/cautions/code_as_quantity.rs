//! A number that names something, read as an amount.

use super::{Caution, CautionInput, Remedy};
use crate::study::CautionKind;
use crate::study::has_word;
use pronoia_data::Kind;
use pronoia_data::number::{count, plain};

/// Words in a column's name that say that its digits are a name.
const NAMING: [&str; 14] = [
    "code",
    "postcode",
    "zip",
    "branch",
    "district",
    "region",
    "area",
    "store",
    "shop",
    "sector",
    "department",
    "agency",
    "plz",
    "number",
];

/// Different values that a code has at least.
const FEWEST: u64 = 5;

pub(super) fn look(seen: &CautionInput) -> Vec<Caution> {
    let numbers = seen.predictors().filter(|c| c.kind == Kind::Number);
    numbers
        .filter_map(|column| {
            let profile = seen.profile.column(&column.name)?;
            let figures = profile.numbers.as_ref()?;
            let rows = seen.dealt.training.iter();
            let whole = rows.filter_map(|&row| column.number(row)).all(|x| x.fract() == 0.0 && x >= 0.0);
            let digits = |x: f64| format!("{x:.0}").len();
            // Amounts begin at small numbers; names are all equally long, or are said to be names.
            let alike = digits(figures.min) == digits(figures.max) && digits(figures.min) >= 3;
            let named = has_word(&column.name, &NAMING);
            let remedy = Remedy::ReadAsCode { column: column.name.clone() };
            let is_code = whole && named && profile.distinct >= FEWEST && (alike || figures.min > 0.0);
            (is_code && !remedy.is_taken(seen.state)).then(|| Caution {
                rule: CautionKind::CodeAsQuantity,
                about: column.name.clone(),
                heading: format!("{} is read as a quantity", column.name),
                evidence: format!(
                    "It has {} different whole numbers from {} to {}, and its name says that they are codes: {} is not a little more than {}.",
                    count(profile.distinct),
                    plain(figures.min),
                    plain(figures.max),
                    plain(figures.max),
                    plain(figures.upper_quartile)
                ),
                remedy,
            })
        })
        .collect()
}
