//! Figures as a reader of accounts expects them: thin spaces between thousands,
//! a true minus sign, and no more digits than mean something.

/// The space between thousands, U+202F, which never breaks a line.
pub const THIN: char = '\u{202f}';

/// A count: `24 000`.
pub fn count(n: u64) -> String {
    grouped(&n.to_string())
}

/// A number with a fixed count of decimals: `−1 204.50`.
///
/// What is not finite is written as a dash.
pub fn fixed(x: f64, decimals: usize) -> String {
    if !x.is_finite() {
        return "–".into();
    }
    let text = format!("{:.*}", decimals, x.abs());
    let (whole, rest) = text.split_at(text.find('.').unwrap_or(text.len()));
    let is_zero = text.bytes().all(|b| b == b'0' || b == b'.');
    let sign = if x < 0.0 && !is_zero { "−" } else { "" };
    format!("{sign}{}{rest}", grouped(whole))
}

/// A share as per cent with one decimal: `18.0 %`.
pub fn percent(share: f64) -> String {
    if share.is_finite() { format!("{}{THIN}%", fixed(share * 100.0, 1)) } else { "–".into() }
}

/// A measured value at the precision at which it is read: about four digits,
/// without zeros at the end that say nothing.
pub fn plain(x: f64) -> String {
    let size = x.abs();
    let decimals = match size {
        _ if size >= 1000.0 || x == x.trunc() => return fixed(x, 0),
        _ if size >= 100.0 => 1,
        _ if size >= 1.0 => 2,
        _ => 4,
    };
    fixed(x, decimals).trim_end_matches('0').trim_end_matches('.').to_owned()
}

/// Money as it is read on a page: whole units from 100 on, otherwise two decimals.
pub fn money(x: f64) -> String {
    if x.abs() >= 100.0 { fixed(x, 0) } else { fixed(x, 2) }
}

fn grouped(digits: &str) -> String {
    let mut out = String::with_capacity(digits.len() + digits.len());
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(THIN);
        }
        out.push(c);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thousands_stand_apart_and_minus_is_a_minus() {
        assert_eq!(count(1_234_567), "1\u{202f}234\u{202f}567");
        assert_eq!(count(999), "999");
        assert_eq!(fixed(-1204.5, 2), "−1\u{202f}204.50");
        assert_eq!(fixed(-0.001, 1), "0.0", "no minus before a zero");
        assert_eq!(percent(0.18), "18.0\u{202f}%");
        assert_eq!(percent(f64::NAN), "–");
        assert_eq!(
            (plain(3.2), plain(0.3), plain(100.04), plain(-7.0)),
            ("3.2".into(), "0.3".into(), "100".into(), "−7".into())
        );
    }
}
