//! Texts that a spreadsheet would compute, kept from it (OWASP, CSV injection).

use std::borrow::Cow;

/// Characters at the beginning of a cell that a spreadsheet takes for a formula, some of them in their wide form.
const BEGINNINGS: [char; 11] = ['=', '+', '-', '@', '\t', '\r', '\n', '＝', '＋', '－', '＠'];

/// A text as it is written into a file of delimited text: with an apostrophe before it where a spreadsheet would
/// compute it. Numbers stay as they are.
pub fn neutralised(text: &str) -> Cow<'_, str> {
    if text.starts_with(BEGINNINGS) && text.parse::<f64>().is_err() {
        Cow::Owned(format!("'{text}"))
    } else {
        Cow::Borrowed(text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn formulas_are_neutralised_and_numbers_are_not() {
        for text in ["=1+2", "+cmd|' /C calc'!A0", "-2+3", "@SUM(A1)", "\t=1", "＝1"] {
            assert_eq!(neutralised(text), format!("'{text}"));
        }
        for text in ["", "-3.5", "+1e6", "a=b", "Öl", "'=1"] {
            assert_eq!(neutralised(text), text);
        }
    }
}
