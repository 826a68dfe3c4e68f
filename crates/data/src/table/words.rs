//! Text with each distinct value held once.

use std::hash::BuildHasher;
use std::sync::Arc;

use arrow_array::builder::{ArrayBuilder, Int32Builder, StringBuilder};
use arrow_array::{Array, Int32Array, StringArray};
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};

/// A dictionary-encoded column of text: the keys and the values of an Arrow
/// dictionary array.
///
/// `code(row)` is the position of the row's value among the levels. Levels
/// stand in order of first appearance and are distinct.
#[derive(Debug, Clone)]
pub struct Words {
    codes: Int32Array,
    levels: Arc<StringArray>,
}

impl Words {
    /// The words of rows; none where one is missing.
    pub fn from_rows<'a>(rows: impl Iterator<Item = Option<&'a str>>) -> Self {
        let mut builder = WordsBuilder::default();
        rows.for_each(|word| builder.push(word));
        builder.finish()
    }

    /// The rows of all parts, one after the other.
    pub fn concat(parts: &[&Words]) -> Self {
        let mut known: HashMap<&str, i32> = HashMap::new();
        let mut levels = Vec::new();
        let mut codes = Vec::with_capacity(parts.iter().map(|p| p.len()).sum());
        for part in parts {
            let place: Vec<i32> = part
                .levels()
                .map(|level| {
                    *known.entry(level).or_insert_with(|| {
                        levels.push(level);
                        levels.len() as i32 - 1
                    })
                })
                .collect();
            codes.extend(part.codes.iter().map(|code| code.map(|c| place[c as usize])));
        }
        Self { codes: Int32Array::from(codes), levels: Arc::new(StringArray::from_iter_values(levels)) }
    }

    /// One word in every row.
    pub fn constant(word: &str, rows: usize) -> Self {
        let levels = Arc::new(StringArray::from_iter_values([word]));
        Self { codes: Int32Array::from_value(0, rows), levels }
    }

    /// Every word made another; words that become the same are one level.
    pub fn map(&self, f: impl Fn(&str) -> String) -> Self {
        let mut known: HashMap<String, i32> = HashMap::new();
        let mut levels = Vec::new();
        let place: Vec<i32> = self
            .levels()
            .map(|level| {
                let made = f(level);
                *known.entry(made).or_insert_with_key(|made| {
                    levels.push(made.clone());
                    levels.len() as i32 - 1
                })
            })
            .collect();
        let codes = self.codes.iter().map(|code| code.map(|c| place[c as usize])).collect();
        Self { codes, levels: Arc::new(StringArray::from_iter_values(&levels)) }
    }

    /// Number of rows.
    pub fn len(&self) -> usize {
        self.codes.len()
    }

    /// Whether there is no row.
    pub fn is_empty(&self) -> bool {
        self.codes.is_empty()
    }

    /// Number of missing values.
    pub fn null_count(&self) -> usize {
        self.codes.null_count()
    }

    /// The value in `row`.
    pub fn get(&self, row: usize) -> Option<&str> {
        self.code(row).map(|code| self.levels.value(code))
    }

    /// Position of the row's value among the levels.
    pub fn code(&self, row: usize) -> Option<usize> {
        self.codes.is_valid(row).then(|| self.codes.value(row) as usize)
    }

    /// For every row, what `of_level` says of its level; missing where it is.
    pub fn by_level(&self, of_level: &[i32]) -> Int32Array {
        // Behind a missing value there may be any code.
        self.codes.unary(|code| usize::try_from(code).ok().and_then(|code| of_level.get(code)).copied().unwrap_or(0))
    }

    /// Every level, in order of code.
    pub fn levels(&self) -> impl Iterator<Item = &str> {
        (0..self.levels.len()).map(|code| self.levels.value(code))
    }

    /// Number of levels; some may occur in no row after [`Words::take`].
    pub fn level_count(&self) -> usize {
        self.levels.len()
    }

    /// Rows per level, in order of code.
    pub fn counts(&self) -> Vec<u64> {
        let mut counts = vec![0; self.level_count()];
        for code in self.codes.iter().flatten() {
            counts[code as usize] += 1;
        }
        counts
    }

    /// The rows given, in the order given; levels stay as they are.
    pub fn take(&self, rows: &[usize]) -> Self {
        let codes = rows.iter().map(|&row| self.codes.is_valid(row).then(|| self.codes.value(row))).collect();
        Self { codes, levels: Arc::clone(&self.levels) }
    }
}

/// Collects text into [`Words`].
#[derive(Debug, Default)]
pub struct WordsBuilder {
    /// Codes of the levels, found by what is written of them in `levels`.
    known: HashTable<i32>,
    hasher: DefaultHashBuilder,
    levels: StringBuilder,
    /// Rows per level so far.
    counts: Vec<u64>,
    codes: Int32Builder,
}

impl WordsBuilder {
    /// Every level so far with its rows.
    pub fn counted(&self) -> impl Iterator<Item = (&str, u64)> {
        let level = |code: usize| str::from_utf8(written(&self.levels, code as i32)).unwrap_or_default();
        self.counts.iter().enumerate().map(move |(code, rows)| (level(code), *rows))
    }

    /// Adds a row.
    pub fn push(&mut self, value: Option<&str>) {
        let Some(word) = value else { return self.codes.append_null() };
        let hash = self.hasher.hash_one(word.as_bytes());
        let same = |code: &i32| written(&self.levels, *code) == word.as_bytes();
        let code = match self.known.find(hash, same) {
            Some(&code) => code,
            None => {
                let code = self.levels.len() as i32;
                self.levels.append_value(word);
                self.counts.push(0);
                let hash_of = |code: &i32| self.hasher.hash_one(written(&self.levels, *code));
                self.known.insert_unique(hash, code, hash_of);
                code
            }
        };
        self.counts[code as usize] += 1;
        self.codes.append_value(code);
    }

    /// Number of rows so far.
    pub fn len(&self) -> usize {
        self.codes.len()
    }

    /// Whether there is no row yet.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Everything pushed, as a column's values.
    pub fn finish(mut self) -> Words {
        Words { codes: self.codes.finish(), levels: Arc::new(self.levels.finish()) }
    }
}

/// The bytes of a level.
fn written(levels: &StringBuilder, code: i32) -> &[u8] {
    let ends = &levels.offsets_slice()[code as usize..code as usize + 2];
    &levels.values_slice()[ends[0] as usize..ends[1] as usize]
}
