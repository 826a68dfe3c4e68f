//! A column that is filled with fields as they come.

use super::MISFITS_KEPT;
use super::block::RowBlock;
use super::field::{FieldKind, RowField};
use super::misfit::{Misfit, MisfitKind};
use super::plan::ColumnPlan;
use pronoia_data::table::{ColumnBuilder, WordsBuilder};
use pronoia_data::value::{DateOrder, DecimalMark, ValueFormat, parse_date};
use pronoia_data::{Column, Kind};

/// A column being read in one way of writing.
#[derive(Debug)]
pub(super) struct ColumnFilling {
    /// Its place among the fields of a row.
    pub at: usize,
    kind: Kind,
    format: ValueFormat,
    builder: ColumnBuilder,
    /// How many fields do not read that way; they count as missing.
    pub misfits: u64,
    /// Line and text of the first of them.
    first: Vec<(u64, String)>,
}

impl ColumnFilling {
    /// An empty column of that kind.
    pub fn new(at: usize, kind: Kind, format: ValueFormat) -> Self {
        Self { at, kind, format, builder: ColumnBuilder::new("", kind), misfits: 0, first: Vec::new() }
    }

    /// Whether it is read as the plan says.
    pub fn follows(&self, plan: &ColumnPlan) -> bool {
        self.format == plan.format && self.kind.storage() == plan.kind.storage()
    }

    /// Number of rows so far.
    pub fn len(&self) -> usize {
        self.builder.len()
    }

    /// Every value with how often it occurs, if the column is read as text.
    pub fn values(&self) -> Option<impl Iterator<Item = (&str, u64)>> {
        (self.format == ValueFormat::Text).then(|| self.builder.words().map(WordsBuilder::counted))?
    }

    /// Adds the column's fields of all rows.
    pub fn take(&mut self, block: &RowBlock) {
        for (line, field) in block.column(self.at) {
            self.push(line, &field);
        }
    }

    /// Adds a field of the row on that line.
    pub fn push(&mut self, line: u64, field: &RowField) {
        if self.reads(field) {
            return;
        }
        self.builder.push_missing();
        self.misfits += 1;
        if self.first.len() < MISFITS_KEPT {
            self.first.push((line, field.text.chars().take(80).collect()));
        }
    }

    /// Adds a field if it reads as the column's kind, or as missing.
    fn reads(&mut self, field: &RowField) -> bool {
        let builder = &mut self.builder;
        if field.told == FieldKind::Failure {
            return false;
        }
        if field.is_missing() {
            builder.push_missing();
            return true;
        }
        match self.format {
            ValueFormat::Text => {
                builder.push_word(field.text);
                true
            }
            ValueFormat::Number { mark } => {
                // A number that the file knows as one has a decimal point, whatever others are written with.
                let mark = if field.told == FieldKind::Number { DecimalMark::Point } else { mark };
                field.number(mark).map(|x| builder.push_number(x)).is_some()
            }
            ValueFormat::Date { order } => {
                let order = if field.told == FieldKind::Day { DateOrder::YearMonthDay } else { order };
                parse_date(field.text, order).map(|day| builder.push_date(day)).is_some()
            }
        }
    }

    /// The rows so far as a column of that name; it goes on without them.
    pub fn finish(&mut self, plan: &ColumnPlan) -> Column {
        let empty = ColumnBuilder::new("", self.kind);
        let column = std::mem::replace(&mut self.builder, empty).finish();
        Column { name: plan.name.clone(), kind: plan.kind, ..column }
    }

    /// The first fields that do not read as the column's kind.
    pub fn first_misfits(&self, plan: &ColumnPlan) -> impl Iterator<Item = Misfit> {
        self.first.iter().map(|(line, value)| {
            let kind = MisfitKind::Cell { column: plan.name.clone(), kind: plan.kind, value: value.clone() };
            Misfit { line: *line, kind, row: String::new() }
        })
    }
}
