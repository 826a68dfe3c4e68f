//! Rows made up between like customers, as every column's kind allows.
//!
//! After Chawla, Bowyer, Hall & Kegelmeyer (2002), "SMOTE", section 6.1: a row
//! is put between one of the rarer outcome and one of its nearest neighbours.
//! Quantities and dates lie between the two, whole numbers stay whole; every
//! category, code, answer and text is that of one of the two, never a mixture.

use rand::RngExt;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;

use pronoia_data::table::{Column, ColumnBuilder, ColumnValues};
use pronoia_data::{Kind, Table};

/// Neighbours among which one is drawn.
const NEIGHBOURS: usize = 5;

/// Rows among which neighbours are sought; more of them are represented by a draw.
const MOST_SOUGHT: usize = 2_000;

/// Made-up rows.
#[derive(Debug, Clone)]
pub struct Synthetic {
    /// Their values.
    pub table: Table,
    /// The two rows that each lies between, as positions among the rows handed in.
    pub parents: Vec<[usize; 2]>,
}

impl Synthetic {
    /// Makes up `count` rows between those of `rarer`, positions in `rows`;
    /// none if the columns make no table.
    pub(super) fn between(
        table: &Table,
        columns: &[String],
        rows: &[usize],
        rarer: &[usize],
        count: usize,
        rng: &mut ChaCha8Rng,
    ) -> Option<Self> {
        let columns: Vec<&Column> = table.columns().iter().filter(|c| columns.contains(&c.name)).collect();
        let mut order = rarer.to_vec();
        order.shuffle(rng);
        let sought: Vec<usize> = order.iter().copied().take(MOST_SOUGHT).collect();
        let space = Space::of(&columns, rows, rarer);
        // Every row of the rarer outcome takes its turn as the first parent.
        let firsts: Vec<usize> = order.iter().copied().take(count).collect();
        let nearest: Vec<Vec<usize>> = firsts.par_iter().map(|&first| space.nearest(first, &sought)).collect();
        let mut parents = Vec::with_capacity(count);
        let mut places = Vec::with_capacity(count);
        for at in 0..count {
            let turn = at % firsts.len();
            let near = &nearest[turn];
            let second = if near.is_empty() { firsts[turn] } else { near[rng.random_range(0..near.len())] };
            parents.push([firsts[turn], second]);
            places.push(rng.random::<f64>());
        }
        let made = columns.iter().map(|column| between(column, rows, &parents, &places, rng)).collect();
        Some(Self { table: Table::new(made).ok()?, parents })
    }
}

/// Values of one column between those of both parents.
fn between(column: &Column, rows: &[usize], parents: &[[usize; 2]], places: &[f64], rng: &mut ChaCha8Rng) -> Column {
    let mut made = ColumnBuilder::new(&column.name, column.kind);
    let quantity = matches!(column.kind, Kind::Number | Kind::Date);
    let whole = quantity && rows.iter().filter_map(|&row| column.number(row)).all(|x| x.fract() == 0.0);
    for (parents, place) in parents.iter().zip(places) {
        let [a, b] = parents.map(|at| rows[at]);
        let either = if rng.random::<bool>() { a } else { b };
        if matches!(column.values, ColumnValues::Words(_)) {
            match column.text(either) {
                Some(word) => made.push_word(&word),
                None => made.push_missing(),
            }
            continue;
        }
        let x = match column.number(a).zip(column.number(b)) {
            Some((from, to)) => Some(from + place * (to - from)),
            None => column.number(either),
        };
        match x.map(|x| if whole { x.round() } else { x }) {
            Some(x) if column.kind == Kind::Date => made.push_date(x as i32),
            Some(x) => made.push_number(x),
            None => made.push_missing(),
        }
    }
    made.finish()
}

/// Rows as points: quantities in standard deviations, and everything else equal or not.
struct Space<'a> {
    rows: &'a [usize],
    numbers: Vec<(&'a Column, f64)>,
    words: Vec<&'a Column>,
}

impl<'a> Space<'a> {
    fn of(columns: &[&'a Column], rows: &'a [usize], rarer: &[usize]) -> Self {
        let (words, numbers): (Vec<&Column>, Vec<&Column>) =
            columns.iter().copied().partition(|c| matches!(c.values, ColumnValues::Words(_)));
        let spread = |column: &Column| {
            let values: Vec<f64> = rarer.iter().filter_map(|&at| column.number(rows[at])).collect();
            let n = values.len().max(1) as f64;
            let mean = values.iter().sum::<f64>() / n;
            let sd = (values.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / n).sqrt();
            if sd > 0.0 { sd } else { 1.0 }
        };
        Self { rows, numbers: numbers.into_iter().map(|c| (c, spread(c))).collect(), words }
    }

    /// The square of the distance; two values of which one is missing are one apart.
    fn apart(&self, a: usize, b: usize) -> f64 {
        let (a, b) = (self.rows[a], self.rows[b]);
        let numbers = self.numbers.iter().map(|(column, sd)| match (column.number(a), column.number(b)) {
            (Some(x), Some(y)) => ((x - y) / sd).powi(2),
            (None, None) => 0.0,
            _ => 1.0,
        });
        let words = self.words.iter().map(|column| match &column.values {
            ColumnValues::Words(words) => f64::from(u8::from(words.code(a) != words.code(b))),
            _ => 0.0,
        });
        numbers.chain(words).sum()
    }

    fn nearest(&self, of: usize, sought: &[usize]) -> Vec<usize> {
        let mut far: Vec<(f64, usize)> =
            sought.iter().filter(|&&at| at != of).map(|&at| (self.apart(of, at), at)).collect();
        let by_distance = |a: &(f64, usize), b: &(f64, usize)| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1));
        if far.len() > NEIGHBOURS {
            far.select_nth_unstable_by(NEIGHBOURS - 1, by_distance);
            far.truncate(NEIGHBOURS);
        }
        far.sort_unstable_by(by_distance);
        far.into_iter().map(|f| f.1).collect()
    }
}
