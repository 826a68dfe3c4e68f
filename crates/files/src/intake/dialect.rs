//! How a text file separates its fields, found from its beginning.

use serde::{Deserialize, Serialize};

use super::IntakeError;

/// What stands between two fields.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Delimiter {
    /// `,`
    Comma,
    /// `;`
    Semicolon,
    /// A tab.
    Tab,
    /// `|`
    Bar,
}

impl Delimiter {
    const ALL: [Delimiter; 4] = [Self::Comma, Self::Semicolon, Self::Tab, Self::Bar];

    /// The byte itself.
    pub fn byte(self) -> u8 {
        match self {
            Self::Comma => b',',
            Self::Semicolon => b';',
            Self::Tab => b'\t',
            Self::Bar => b'|',
        }
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Comma => "comma",
            Self::Semicolon => "semicolon",
            Self::Tab => "tab",
            Self::Bar => "bar",
        }
    }
}

/// How the file is written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Dialect {
    /// Between fields.
    pub delimiter: Delimiter,
    /// Around fields: `"` or `'`.
    pub quote: char,
    /// Name of the encoding in the Encoding Standard.
    pub encoding: String,
}

impl Dialect {
    /// Finds encoding, delimiter and quote in the first bytes of a file.
    ///
    /// # Errors
    /// [`IntakeError::NotText`].
    pub(super) fn find(head: &[u8]) -> Result<Self, IntakeError> {
        let encoding = Self::find_encoding(head)?;
        let (decoded, _, _) = encoding.decode(head);
        if is_noise(&decoded, encoding == encoding_rs::WINDOWS_1252) {
            return Err(IntakeError::NotText { what: "too many of its bytes stand for no character".into() });
        }
        let (delimiter, quote) = Self::find_separators(&decoded);
        Ok(Self { delimiter, quote, encoding: encoding.name().into() })
    }

    /// Finds the encoding of the first bytes of a file.
    ///
    /// A byte order mark decides; else two-byte text shows by its many zero
    /// bytes; else what is valid UTF-8 is UTF-8, and the rest Windows-1252.
    ///
    /// # Errors
    /// [`IntakeError::NotText`] for known binaries and what has too many zero bytes.
    fn find_encoding(head: &[u8]) -> Result<&'static encoding_rs::Encoding, IntakeError> {
        const BINARIES: [(&[u8], &str); 5] = [
            (b"\x1f\x8b", "it is compressed with gzip; unpack it first"),
            (b"(\xb5/\xfd", "it is compressed with Zstandard; unpack it first"),
            (b"FEA1", "it is the first version of Feather; write it as the second"),
            (b"\xd0\xcf\x11\xe0", "it is a workbook of the old binary kind; save it as .xlsx or .ods"),
            (b"%PDF", "it is a PDF document"),
        ];
        for (magic, what) in BINARIES {
            if head.starts_with(magic) {
                return Err(IntakeError::NotText { what: what.into() });
            }
        }
        if let Some((encoding, _)) = encoding_rs::Encoding::for_bom(head) {
            return Ok(encoding);
        }
        let pairs = head.len() / 2;
        if pairs >= 2 {
            let zeros = |first: usize| head.iter().skip(first).step_by(2).filter(|&&b| b == 0).count();
            let (even, odd) = (zeros(0), zeros(1));
            if odd * 10 >= pairs * 7 && even * 10 < pairs {
                return Ok(encoding_rs::UTF_16LE);
            }
            if even * 10 >= pairs * 7 && odd * 10 < pairs {
                return Ok(encoding_rs::UTF_16BE);
            }
            if (even + odd) * 10 > head.len() {
                return Err(IntakeError::NotText { what: "a tenth of its bytes are zero".into() });
            }
        }
        match std::str::from_utf8(head) {
            Ok(_) => Ok(encoding_rs::UTF_8),
            // A character cut in half by the end of the sample is no evidence.
            Err(e) if e.error_len().is_none() && head.len() > 4 => Ok(encoding_rs::UTF_8),
            Err(_) => Ok(encoding_rs::WINDOWS_1252),
        }
    }

    /// Finds delimiter and quote in the first lines, already decoded.
    ///
    /// Every delimiter is tried; the one under which the most lines have as
    /// many fields as the first line, and more than one, wins.
    fn find_separators(head: &str) -> (Delimiter, char) {
        let quote = find_quote(head);
        let score = |delimiter: Delimiter| {
            let mut reader = ::csv::ReaderBuilder::new()
                .has_headers(false)
                .flexible(true)
                .delimiter(delimiter.byte())
                .quote(quote as u8)
                .from_reader(head.as_bytes());
            let widths: Vec<usize> = reader.records().take(200).flatten().map(|r| r.len()).collect();
            // The last record may be cut off by the end of the sample.
            let whole = &widths[..widths.len().saturating_sub(1).max(1).min(widths.len())];
            let first = whole.first().copied().unwrap_or(0);
            if first < 2 {
                return (0.0, 0);
            }
            let agree = whole.iter().filter(|&&w| w == first).count();
            (agree as f64 / whole.len() as f64, first)
        };
        let best = Delimiter::ALL
            .into_iter()
            .map(|d| (score(d), d))
            .max_by(|((a, n), _), ((b, m), _)| a.total_cmp(b).then(n.cmp(m)))
            .map_or(Delimiter::Comma, |(_, d)| d);
        (best, quote)
    }
}

/// Whether more than a hundredth of what was decoded is nothing that stands in a text: control characters, and what
/// the encoding has no character for. A few of them in an otherwise sound file are none. A text that was encoded twice
/// is full of the upper control characters (U+0080 to U+009F), and is a text; where one byte is one character, they
/// are the bytes that stand for none.
fn is_noise(decoded: &str, one_byte: bool) -> bool {
    const FEWEST: usize = 4;
    let strange = |c: &char| match *c {
        char::REPLACEMENT_CHARACTER => true,
        '\u{80}'..='\u{9f}' => one_byte,
        c => c.is_control() && !c.is_ascii_whitespace(),
    };
    let (strange, all) = (decoded.chars().filter(strange).count(), decoded.chars().count());
    strange >= FEWEST && strange * 100 > all
}

/// Single quotes are believed only where they open fields and double ones do not occur.
fn find_quote(head: &str) -> char {
    let opens = |q: char| {
        head.lines()
            .flat_map(|l| l.split([',', ';', '\t', '|']))
            .filter(|f| f.len() > 1 && f.starts_with(q) && f.ends_with(q))
            .count()
    };
    if !head.contains('"') && opens('\'') > 2 { '\'' } else { '"' }
}
