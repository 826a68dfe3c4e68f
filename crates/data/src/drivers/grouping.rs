//! Customers grouped by a column: by value, or by band where it is a number.

use serde::{Deserialize, Serialize};

use crate::Kind;
use crate::number::plain;
use crate::stats::quantile;
use crate::stats::{Count, chi_square, total};
use crate::table::{Column, ColumnValues, written_date};

/// Bands that a number is cut into before neighbours are put together.
const FINEST: usize = 20;

/// Pearson's statistic below which two neighbouring bands are put together:
/// its 0.95 quantile for one degree of freedom.
const SAME: f64 = 3.841;

/// Values of a category that stand by themselves, at most; the others are one group.
const MOST_VALUES: usize = 40;

/// Customers that a value needs to stand by itself.
const FEWEST: u64 = 20;

/// Who belongs to a group.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Members {
    /// Customers with this value.
    Value(String),
    /// Customers with one of these values, none of which is frequent.
    Others(Vec<String>),
    /// Customers above one figure, if there is one, and up to another, if there is one.
    Band(Bin),
    /// Customers without a value.
    Missing,
}

/// A range of a number or a date.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Bin {
    /// Above this, exclusive.
    pub above: Option<f64>,
    /// Up to this, inclusive.
    pub up_to: Option<f64>,
    /// The least value of the column that was seen.
    pub least: f64,
    /// How the column's values are written.
    pub notation: Notation,
}

/// How the values of a column are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Notation {
    /// As measured, with decimals.
    Measured,
    /// Whole numbers, so that “over 3” is “4 and more”.
    Whole,
    /// Days.
    Day,
}

impl Bin {
    /// The band in words.
    pub fn label(self) -> String {
        let Self { above, up_to, least, notation } = self;
        let write = |x: f64| if notation == Notation::Day { written_date(x as i32) } else { plain(x) };
        let whole = notation == Notation::Whole;
        match (above, up_to) {
            (None, None) => "any value".into(),
            (None, Some(u)) if u == least => write(u),
            (None, Some(u)) => format!("up to {}", write(u)),
            (Some(a), None) if whole => format!("{} and more", write(a + 1.0)),
            (Some(a), None) => format!("over {}", write(a)),
            (Some(a), Some(u)) if whole && a + 1.0 == u => write(u),
            (Some(a), Some(u)) if whole => format!("{} to {}", write(a + 1.0), write(u)),
            (Some(a), Some(u)) => format!("over {} to {}", write(a), write(u)),
        }
    }
}

/// A group of customers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RateGroup {
    /// How it is called on a page: “over 3 to 7”.
    pub label: String,
    /// Who belongs to it.
    pub members: Members,
    /// How many they are.
    pub count: Count,
}

/// The rows looked at, each in one group of a column.
#[derive(Debug, Clone)]
pub struct Grouping {
    /// The groups: bands in their order, values by falling event rate, missing last.
    pub groups: Vec<RateGroup>,
    /// The group of every row looked at.
    pub codes: Vec<u16>,
}

impl Grouping {
    /// Groups `rows` of a column; `event[i]` says what happened in `rows[i]`.
    /// At most `most` groups besides that of the missing values.
    ///
    /// Numbers and dates are cut into twenty bands of about equally many
    /// customers, and neighbours whose event rates do not differ are put
    /// together, the most alike first (ChiMerge, Kerber 1992). The bands
    /// therefore know the outcome of these rows, and of no others.
    pub fn of(column: &Column, rows: &[usize], event: &[bool], most: usize) -> Self {
        match &column.values {
            ColumnValues::Words(_) => by_value(column, rows, event, most.min(MOST_VALUES)),
            _ => by_band(column, rows, event, most),
        }
    }

    /// The counts of the groups.
    pub fn counts(&self) -> Vec<Count> {
        self.groups.iter().map(|g| g.count).collect()
    }
}

impl RateGroup {
    /// Its band, if it is one.
    pub fn band(&self) -> Option<Bin> {
        match self.members {
            Members::Band(band) => Some(band),
            _ => None,
        }
    }
}

impl Members {
    /// The group as an SQL condition on its column.
    pub fn condition(&self, column: &str) -> String {
        let name = crate::expression::name_of(column);
        let text = |value: &String| format!("'{}'", value.replace('\'', "''"));
        match self {
            Self::Missing => format!("{name} IS NULL"),
            Self::Value(value) => format!("{name} = {}", text(value)),
            Self::Others(values) => {
                format!("{name} IN ({})", values.iter().map(text).collect::<Vec<_>>().join(", "))
            }
            Self::Band(Bin { above, up_to, notation, .. }) => {
                let write = |x: f64| match notation {
                    Notation::Day => format!("DATE '{}'", written_date(x as i32)),
                    _ => crate::table::written_number(x),
                };
                match (above, up_to) {
                    (None, None) => format!("{name} IS NOT NULL"),
                    (Some(a), None) => format!("{name} > {}", write(*a)),
                    (None, Some(u)) => format!("{name} <= {}", write(*u)),
                    (Some(a), Some(u)) => format!("{name} > {} AND {name} <= {}", write(*a), write(*u)),
                }
            }
        }
    }

    /// Whether the value in `row` of the column belongs to the group.
    pub fn contain(&self, column: &Column, row: usize) -> bool {
        match self {
            Self::Missing => column.text(row).is_none(),
            Self::Value(value) => column.text(row).as_deref() == Some(value),
            Self::Others(values) => column.text(row).is_some_and(|v| values.contains(&v)),
            Self::Band(Bin { above, up_to, .. }) => {
                column.number(row).is_some_and(|x| above.is_none_or(|a| x > a) && up_to.is_none_or(|u| x <= u))
            }
        }
    }
}

fn by_value(column: &Column, rows: &[usize], event: &[bool], most: usize) -> Grouping {
    let ColumnValues::Words(words) = &column.values else { unreachable!("called for categories only") };
    let mut counts = vec![Count::default(); words.level_count() + 1];
    let level = |row: usize| words.code(row).unwrap_or(words.level_count());
    for (&row, &e) in rows.iter().zip(event) {
        counts[level(row)].add(e);
    }
    let names: Vec<&str> = words.levels().collect();
    let mut frequent: Vec<usize> = (0..names.len()).filter(|&l| counts[l].rows >= FEWEST).collect();
    frequent.sort_by(|&a, &b| counts[b].rows.cmp(&counts[a].rows).then(names[a].cmp(names[b])));
    let seen = (0..names.len()).filter(|&l| counts[l].rows > 0).count();
    // One place is kept for the others where there are any.
    frequent.truncate(if seen > frequent.len().min(most) { most.saturating_sub(1).max(1) } else { most });
    frequent.sort_by(|&a, &b| counts[b].rate().total_cmp(&counts[a].rate()).then(names[a].cmp(names[b])));
    let mut place = vec![u16::MAX; counts.len()];
    let mut groups = Vec::new();
    for &l in &frequent {
        place[l] = groups.len() as u16;
        let value = names[l].to_owned();
        groups.push(RateGroup { label: value.clone(), members: Members::Value(value), count: counts[l] });
    }
    let rest: Vec<usize> = (0..names.len()).filter(|&l| place[l] == u16::MAX && counts[l].rows > 0).collect();
    if !rest.is_empty() {
        rest.iter().for_each(|&l| place[l] = groups.len() as u16);
        let label = if rest.len() == 1 { names[rest[0]].to_owned() } else { format!("{} other values", rest.len()) };
        let count = rest.iter().fold(Count::default(), |sum, &l| sum.plus(counts[l]));
        let values = rest.iter().map(|&l| names[l].to_owned()).collect();
        groups.push(RateGroup { label, members: Members::Others(values), count });
    }
    add_missing(&mut groups, counts[names.len()]);
    let last = (groups.len().max(1) - 1) as u16;
    let codes = rows.iter().map(|&row| place[level(row)].min(last)).collect();
    Grouping { groups, codes }
}

fn by_band(column: &Column, rows: &[usize], event: &[bool], most: usize) -> Grouping {
    let numbers = || rows.iter().filter_map(|&row| column.number(row));
    let edges = band_edges(numbers(), FINEST);
    let bands = edges.len() + 1;
    let fine = |x: f64| edges.partition_point(|&edge| edge < x);
    let mut counts = vec![Count::default(); bands];
    let mut missing = Count::default();
    for (&row, &e) in rows.iter().zip(event) {
        match column.number(row) {
            Some(x) => counts[fine(x)].add(e),
            None => missing.add(e),
        }
    }
    let firsts = merged(&counts, most);
    let notation = match column.kind {
        Kind::Date => Notation::Day,
        _ if numbers().all(|x| x.fract() == 0.0) => Notation::Whole,
        _ => Notation::Measured,
    };
    let least = numbers().min_by(f64::total_cmp);
    let is_empty = least.is_none();
    let least = least.unwrap_or(0.0);
    let mut groups = Vec::new();
    let mut place = vec![0u16; bands];
    for (i, &first) in firsts.iter().enumerate() {
        let end = firsts.get(i + 1).copied().unwrap_or(bands);
        place[first..end].fill(i as u16);
        let above = first.checked_sub(1).map(|edge| edges[edge]);
        let up_to = edges.get(end - 1).copied().filter(|_| end < bands);
        let band = Bin { above, up_to, least, notation };
        let count = total(&counts[first..end]);
        groups.push(RateGroup { label: band.label(), members: Members::Band(band), count });
    }
    if is_empty {
        groups.clear();
    }
    let last = groups.len() as u16;
    add_missing(&mut groups, missing);
    let codes = rows.iter().map(|&row| column.number(row).map_or(last, |x| place[fine(x)])).collect();
    Grouping { groups, codes }
}

/// Upper edges, included, of all but the last of about `bands` bands of equally
/// many numbers: values that occur, so that nobody stands on both sides.
pub fn band_edges(numbers: impl Iterator<Item = f64>, bands: usize) -> Vec<f64> {
    let mut sorted: Vec<f64> = numbers.collect();
    sorted.sort_unstable_by(f64::total_cmp);
    let Some(&greatest) = sorted.last() else { return Vec::new() };
    let at = |i: usize| quantile(&sorted, i as f64 / bands as f64);
    let occurring = |x: f64| sorted[sorted.partition_point(|&v| v <= x).max(1) - 1];
    let mut edges: Vec<f64> = (1..bands).map(|i| occurring(at(i))).collect();
    edges.dedup();
    edges.retain(|&edge| edge < greatest);
    edges
}

/// The first fine band of every band that is left once neighbours that are
/// alike were put together, and no more than `most` remain.
pub fn merged(counts: &[Count], most: usize) -> Vec<usize> {
    let mut bands: Vec<(usize, Count)> = counts.iter().copied().enumerate().collect();
    while bands.len() > 1 {
        let pairs = bands.windows(2).map(|w| chi_square(w[0].1, w[1].1)).enumerate();
        let Some((at, statistic)) = pairs.min_by(|a, b| a.1.total_cmp(&b.1)) else { break };
        if statistic >= SAME && bands.len() <= most {
            break;
        }
        let (_, gone) = bands.remove(at + 1);
        bands[at].1 = bands[at].1.plus(gone);
    }
    bands.into_iter().map(|(first, _)| first).collect()
}

fn add_missing(groups: &mut Vec<RateGroup>, count: Count) {
    if count.rows > 0 {
        groups.push(RateGroup { label: "missing".into(), members: Members::Missing, count });
    }
}
