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
        let rates = rates(&ranking.slots);
        let exact: Vec<f64> = rates.chunks(ROWS).map(|c| c.iter().sum()).collect();
        let total = (ranking.events as f64 * (COLUMNS * ROWS) as f64 / ranking.rows.max(1) as f64).round() as usize;
        let filled = largest_remainder(&exact, total);
        let marks = rates
            .chunks(ROWS)
            .zip(filled)
            .map(|(column, n)| {
                let mut order: Vec<usize> = (0..ROWS).collect();
                order.sort_by(|&a, &b| column[b].total_cmp(&column[a]).then(a.cmp(&b)));
                let mut marks = [false; ROWS];
                order.into_iter().take(n).for_each(|i| marks[i] = true);
                marks
            })
            .collect();
        Self { marks }
    }
}

/// Event rate of the customers that each of a thousand marks stands for; a mark
/// whose customers are parts of several slots takes that part of each.
fn rates(slots: &[(u32, u32)]) -> Vec<f64> {
    let marks = COLUMNS * ROWS;
    let rows: f64 = slots.iter().map(|s| f64::from(s.1)).sum();
    let per_mark = rows / marks as f64;
    let mut rates = Vec::with_capacity(marks);
    let (mut slot, mut begun, mut events_before, mut last) = (0, 0.0, 0.0, 0.0);
    for mark in 1..=marks {
        let end = rows * mark as f64 / marks as f64;
        // Whole slots before the end, then the part of the one it cuts.
        while slot < slots.len() && begun + f64::from(slots[slot].1) <= end {
            begun += f64::from(slots[slot].1);
            events_before += f64::from(slots[slot].0);
            slot += 1;
        }
        let cut = slots.get(slot).map_or(0.0, |&(e, n)| f64::from(e) * (end - begun) / f64::from(n.max(1)));
        rates.push((events_before + cut - last) / per_mark);
        last = events_before + cut;
    }
    rates
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
