//! A long table described by rows that are drawn evenly from it.

use super::TableProfile;
use crate::Table;

/// Tables that rows are held in, at most.
const MOST_PARTS: usize = 16;

/// Every so many rows of a table that is met part by part, so that never more than twice as many are
/// held as are wanted.
#[derive(Debug)]
pub struct Evenly {
    most: usize,
    every: u64,
    met: u64,
    /// Rows 0, `every`, 2 × `every` and so on.
    parts: Vec<Table>,
    held: usize,
}

impl Evenly {
    /// About so many rows at most; all of them where there are no more than twice as many.
    pub fn up_to(most: usize) -> Self {
        Self { most: most.max(1), every: 1, met: 0, parts: Vec::new(), held: 0 }
    }

    /// All rows, however many there are.
    pub fn whole() -> Self {
        Self::up_to(usize::MAX / 2)
    }

    /// Meets the next rows.
    pub fn meet(&mut self, part: Table) {
        let before = self.met;
        self.met += part.rows() as u64;
        self.hold(if self.every == 1 { part } else { part.every_nth(before, self.every) });
        while self.held > 2 * self.most {
            let mut before = 0;
            self.held = 0;
            self.every *= 2;
            for part in std::mem::take(&mut self.parts) {
                let rows = part.rows() as u64;
                self.hold(part.every_nth(before, 2));
                before += rows;
            }
        }
    }

    fn hold(&mut self, part: Table) {
        self.held += part.rows();
        // One without rows still says which columns there are.
        if part.rows() > 0 || self.parts.is_empty() {
            self.parts.push(part);
        }
        // Many small tables take more room than one.
        if self.every > 1
            && self.parts.len() >= MOST_PARTS
            && let Ok(whole) = Table::concat(&self.parts)
        {
            self.parts = vec![whole];
        }
    }

    /// Describes the table by the rows held. Where these are not all of it, nothing is said of rows
    /// that repeat.
    pub fn described(self) -> TableProfile {
        let mut profile = TableProfile::of_parts(&self.parts);
        if self.every > 1 {
            profile.drawn = Some(profile.rows);
            profile.rows = self.met;
            profile.repeated = 0;
            profile.unlike.iter_mut().for_each(|unlike| unlike.row = (unlike.row - 1) * self.every + 1);
        }
        profile
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Kind;
    use crate::table::ColumnBuilder;

    fn part(rows: std::ops::Range<u32>) -> Table {
        let mut number = ColumnBuilder::new("at", Kind::Number);
        let mut word = ColumnBuilder::new("word", Kind::Category);
        for row in rows {
            number.push_number(f64::from(row));
            word.push_word(if row % 4 == 0 { "one in four" } else { "other" });
        }
        Table::new(vec![number.finish(), word.finish()]).expect("a table")
    }

    #[test]
    fn a_short_table_is_described_as_it_is() {
        let mut evenly = Evenly::up_to(50);
        evenly.meet(part(0..60));
        evenly.meet(part(60..100));
        assert_eq!(evenly.described(), TableProfile::of(&part(0..100)));
        let mut nothing = Evenly::up_to(50);
        nothing.meet(part(0..0));
        assert_eq!(nothing.described().columns.len(), 2);
    }

    #[test]
    fn a_long_table_is_described_by_rows_at_even_distances_however_it_comes_in() {
        let whole = |sizes: &[u32]| {
            let (mut evenly, mut at, mut most) = (Evenly::up_to(100), 0, 0);
            for size in sizes.iter().cycle() {
                let end = (at + size).min(10_000);
                evenly.meet(part(at..end));
                most = most.max(evenly.held);
                at = end;
                if at == 10_000 {
                    break;
                }
            }
            assert!(most <= 200, "{most} were held");
            evenly.described()
        };
        let profile = whole(&[7, 1, 300, 64]);
        assert_eq!(profile, whole(&[10_000]), "the parts do not matter");
        // Every 64th row: 157 of 10 000.
        assert_eq!((profile.rows, profile.drawn), (10_000, Some(157)));
        let numbers = profile.columns[0].numbers.as_ref().expect("numbers");
        assert_eq!((numbers.min, numbers.max), (0.0, 9_984.0));
        assert!((numbers.median - 5_000.0).abs() < 64.0, "{}", numbers.median);
        assert!(profile.unlike.iter().all(|unlike| unlike.row % 64 == 1));
    }
}
