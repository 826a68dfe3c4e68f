//! What is gathered of columns while their rows pass by once: what the fields look like, and the
//! fields themselves, read the way they looked like at first.

use std::sync::mpsc::Receiver;

use rayon::prelude::*;

use super::block::RowBlock;
use super::field::{FieldKind, RowField};
use super::filling::ColumnFilling;
use super::infer::KindTally;

/// One column.
#[derive(Debug, Default)]
pub(super) struct Gathered {
    /// What its fields look like.
    pub tally: KindTally,
    /// Its fields, if they are wanted and it was there from the first rows on.
    pub filling: Option<ColumnFilling>,
}

impl Gathered {
    fn take(&mut self, at: usize, block: &RowBlock) {
        match &mut self.filling {
            // The values are looked at in the end, each once.
            Some(filling) if block.is_untold() && filling.values().is_some() => filling.take(block),
            Some(filling) => block.column(at).for_each(|(line, field)| {
                self.tally.see(&field, 1);
                filling.push(line, &field);
            }),
            None => block.column(at).for_each(|(_, field)| self.tally.see(&field, 1)),
        }
    }

    /// Looks at the values of a column that is filled with text.
    fn look_at_values(&mut self) {
        if let Some(values) = self.filling.as_ref().and_then(ColumnFilling::values) {
            self.tally = KindTally::default();
            values.for_each(|(value, times)| self.tally.see(&RowField::of(value, FieldKind::Nothing), times));
        }
    }
}

/// Gathers what is in the blocks, several columns at a time. `names` are those that are known
/// before the first row; with `fills`, the fields are wanted too.
pub(super) fn gather(blocks: Receiver<RowBlock>, names: &[String], fills: bool) -> Vec<Gathered> {
    let mut columns: Vec<Gathered> = Vec::new();
    let mut is_untold = false;
    for block in blocks {
        let is_first = columns.is_empty();
        if columns.len() < block.width() {
            columns.resize_with(block.width(), Gathered::default);
        }
        columns.par_iter_mut().enumerate().for_each(|(at, column)| column.take(at, &block));
        if is_first && fills {
            is_untold = block.is_untold();
            guess(&mut columns, names);
            columns.par_iter_mut().filter_map(|c| c.filling.as_mut()).for_each(|filling| filling.take(&block));
        }
    }
    if is_untold {
        columns.par_iter_mut().for_each(Gathered::look_at_values);
    }
    columns
}

/// Begins to fill the columns, as the first rows look like.
fn guess(columns: &mut [Gathered], names: &[String]) {
    let comma_file = KindTally::comma_file(columns.iter().map(|c| &c.tally));
    for (at, column) in columns.iter_mut().enumerate() {
        let name = names.get(at).map_or("", String::as_str);
        let (kind, format, _) = column.tally.conclude(name, comma_file);
        column.filling = Some(ColumnFilling::new(at, kind, format));
    }
}
