//! A thousand marks that stand for all customers, most likely first.

use serde::{Deserialize, Serialize};

use super::Ranking;

/// Columns of marks.
pub const COLUMNS: usize = 50;

/// Marks in a column.
pub const ROWS: usize = 20;

/// The picture: which of the marks stand for events.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Thousand {
    /// Column by column, from the highest probability; true stands for events.
    pub marks: Vec<[bool; ROWS]>,
}

impl Thousand {
    /// Draws a ranking as a thousand marks.
    ///
    /// The number of filled marks is the event rate of all rows to the nearest
    /// mark. They are dealt to the columns by largest remainder, so that every
    /// column is right to within one mark; inside a column the slots with the
    /// highest event rate are filled.
    pub fn of(ranking: &Ranking) -> Self {
        let slots = stretched(&ranking.slots);
        let rate = |&(events, rows): &(f64, f64)| if rows > 0.0 { events / rows } else { 0.0 };
        let exact: Vec<f64> = slots.chunks(ROWS).map(|c| c.iter().map(rate).sum::<f64>()).collect();
        let total = (ranking.events as f64 * (COLUMNS * ROWS) as f64 / ranking.rows.max(1) as f64).round() as usize;
        let filled = largest_remainder(&exact, total);
        let marks = slots
            .chunks(ROWS)
            .zip(filled)
            .map(|(column, n)| {
                let mut order: Vec<usize> = (0..ROWS).collect();
                order.sort_by(|&a, &b| rate(&column[b]).total_cmp(&rate(&column[a])).then(a.cmp(&b)));
                let mut marks = [false; ROWS];
                order.into_iter().take(n).for_each(|i| marks[i] = true);
                marks
            })
            .collect();
        Self { marks }
    }
}

/// A thousand slots, whatever the number of rows: each takes its part of the
/// rows it covers.
fn stretched(slots: &[(u32, u32)]) -> Vec<(f64, f64)> {
    let all = COLUMNS * ROWS;
    (0..all)
        .map(|i| {
            let (events, rows) = slots.get(i * slots.len() / all).copied().unwrap_or_default();
            (f64::from(events), f64::from(rows))
        })
        .collect()
}

/// Whole numbers that add up to `total` and are each next to their exact value,
/// as far as no column overflows.
fn largest_remainder(exact: &[f64], total: usize) -> Vec<usize> {
    let mut whole: Vec<usize> = exact.iter().map(|x| x.floor() as usize).collect();
    let mut order: Vec<usize> = (0..exact.len()).collect();
    order.sort_by(|&a, &b| exact[b].fract().total_cmp(&exact[a].fract()).then(a.cmp(&b)));
    let mut left = total.saturating_sub(whole.iter().sum());
    for i in order {
        if left > 0 && whole[i] < ROWS {
            whole[i] += 1;
            left -= 1;
        }
    }
    whole
}
