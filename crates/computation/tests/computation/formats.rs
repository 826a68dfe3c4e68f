//! Every format gives the same table, and unusual files a sentence.

use std::io::Cursor;
use std::sync::Arc;

use crate::files::{ROWS, arrow, arrow_stream, batch, json_lines, ods, parquet, read, xlsx, zipped};
use arrow_array::builder::{ListBuilder, StringBuilder};
use arrow_array::{ArrayRef, Int32Array, RecordBatch};
use pronoia_core::Kind;
use pronoia_core::intake::{Format, Intake, IntakeError, MisfitKind, read_table};
use pronoia_core::progress::Unwatched;
use rust_xlsxwriter::{Formula, Workbook};

fn error(bytes: &[u8]) -> IntakeError {
    read_table(bytes, &Unwatched).expect_err("no table")
}

#[test]
fn every_format_gives_the_same_table() {
    let (expected, _) = read(&parquet(&batch()));
    let kinds = [Kind::Code, Kind::Number, Kind::Number, Kind::Date, Kind::Category, Kind::YesNo];
    for bytes in [parquet(&batch()), arrow(&batch()), arrow_stream(&batch()), xlsx(), ods(), json_lines()] {
        let (table, scan) = read(&bytes);
        assert_eq!((scan.rejected, scan.misfit_cells, table.rows()), (0, 0, ROWS), "{:?}", scan.plan.format);
        for ((column, other), kind) in table.columns().iter().zip(expected.columns()).zip(kinds) {
            let where_ = format!("{} in {:?}", column.name, scan.plan.format);
            assert_eq!((column.kind, &column.name), (kind, &other.name), "{where_}");
            assert!((0..ROWS).all(|row| column.text(row) == other.text(row)), "{where_}");
        }
    }
}

#[test]
fn a_title_is_passed_over_and_groups_name_their_parts() {
    let mut book = Workbook::new();
    let bold = rust_xlsxwriter::Format::new();
    let sheet = book.add_worksheet().set_name("Extract").expect("a name");
    sheet.merge_range(0, 1, 0, 5, "Extract of the first quarter", &bold).expect("a title");
    sheet.merge_range(2, 1, 3, 1, "customer", &bold).expect("a name");
    sheet.merge_range(2, 2, 2, 3, "fee", &bold).expect("a group");
    sheet.merge_range(2, 4, 2, 5, "visits", &bold).expect("a group");
    for (column, name) in (2..).zip(["monthly", "yearly", "number", "last"]) {
        sheet.write(3, column, name).expect("a part");
    }
    for row in 0..12u32 {
        sheet.write(4 + row, 1, format!("c{row}")).expect("a cell");
        (2..6).for_each(|column| {
            sheet.write(4 + row, column, f64::from(row) + f64::from(column) / 2.0).expect("a cell");
        });
    }
    let (table, scan) = read(&book.save_to_buffer().expect("a workbook"));
    let names: Vec<&str> = table.columns().iter().map(|c| c.name.as_str()).collect();
    assert_eq!(names, ["customer", "fee – monthly", "fee – yearly", "visits – number", "visits – last"]);
    assert_eq!((table.rows(), table.columns()[1].number(2)), (12, Some(3.0)));
    assert!(scan.notes.iter().any(|n| n.contains("Extract of the first quarter")), "{:?}", scan.notes);
}

#[test]
fn formulas_count_by_their_result_and_failed_ones_as_misfits() {
    let mut book = Workbook::new();
    let sheet = book.add_worksheet();
    sheet.write(0, 0, "id").and_then(|s| s.write(0, 1, "fee")).expect("names");
    for row in 1..=20u32 {
        let result = if row == 7 { "#DIV/0!".to_owned() } else { (row * 2).to_string() };
        sheet.write(row, 0, format!("k{row}")).expect("a cell");
        sheet.write_formula(row, 1, Formula::new("=1+1").set_result(result)).expect("a formula");
    }
    let hidden = book.add_worksheet().set_name("Hidden").expect("a name");
    hidden.write(0, 0, "secret").expect("a cell");
    hidden.set_hidden(true);
    let bytes = book.save_to_buffer().expect("a workbook");
    let (table, scan) = read(&bytes);
    assert_eq!((table.columns()[1].kind, table.columns()[1].number(0)), (Kind::Number, Some(2.0)));
    assert_eq!((scan.misfit_cells, scan.misfits[0].line), (1, 8));
    assert!(scan.misfits[0].sentence().contains("#DIV/0!"), "{}", scan.misfits[0].sentence());
    let Format::Workbook { sheets, .. } = scan.plan.format else { panic!("a workbook") };
    assert_eq!(sheets, ["Sheet1"], "what is hidden is not offered");
}

#[test]
fn the_sheet_that_is_wanted_is_read() {
    let mut book = Workbook::new();
    book.add_worksheet().set_name("Cover").expect("a name");
    for (name, value) in [("North", 1.0), ("South", 2.0)] {
        let sheet = book.add_worksheet().set_name(name).expect("a name");
        sheet.write(0, 0, "id").and_then(|s| s.write(0, 1, "n")).expect("names");
        (1..5).for_each(|row| {
            sheet.write(row, 0, format!("{name}{row}")).and_then(|s| s.write(row, 1, value)).expect("cells");
        });
    }
    let bytes = book.save_to_buffer().expect("a workbook");
    let of = |sheet: Option<&str>| {
        let open = || Ok(Cursor::new(bytes.clone()));
        Intake { open, size: 0, sheet }.table(|_| {}, &Unwatched).map(|(t, _)| t.columns()[1].number(0))
    };
    assert_eq!(of(None).expect("the first that is not empty"), Some(1.0));
    assert_eq!(of(Some("South")).expect("the sheet"), Some(2.0));
    assert!(matches!(of(Some("Cover")), Err(IntakeError::EmptySheet { .. })));
    let missing = of(Some("East")).expect_err("no such sheet").to_string();
    assert!(missing.contains("East") && missing.contains("South"), "{missing}");
}

#[test]
fn an_archive_that_swells_is_not_unpacked() {
    let swollen = vec![b' '; 200 << 20];
    let bytes = zipped(&[("xl/workbook.xml", b"<workbook/>"), ("xl/worksheets/sheet1.xml", &swollen)]);
    assert!(bytes.len() < 1 << 20);
    assert!(matches!(error(&bytes), IntakeError::Swollen { .. }));
    assert!(matches!(error(&zipped(&[("photos/a.txt", b"x")])), IntakeError::NotText { .. }));
}

#[test]
fn nested_columns_are_left_out_in_words() {
    let mut pets = ListBuilder::new(StringBuilder::new());
    (0..ROWS).for_each(|_| pets.append_value([Some("cat"), Some("dog")]));
    let pets: ArrayRef = Arc::new(pets.finish());
    let ids: ArrayRef = Arc::new(Int32Array::from_iter_values(0..ROWS as i32));
    let both = RecordBatch::try_from_iter([("id", ids), ("pets", Arc::clone(&pets))]).expect("a batch");
    let (table, scan) = read(&parquet(&both));
    assert_eq!(table.columns().len(), 1);
    assert!(scan.notes[0].contains("“pets”"), "{:?}", scan.notes);
    let only = RecordBatch::try_from_iter([("pets", pets)]).expect("a batch");
    assert!(matches!(error(&parquet(&only)), IntakeError::NothingFlat));
}

#[test]
fn json_lines_may_change_their_keys_and_types() {
    let mut text = String::new();
    for i in 0..200 {
        let late = if i > 150 { format!(",\"late\":{i}") } else { String::new() };
        text += &format!("{{\"id\":\"c{i}\",\"pet\":{{\"species\":\"cat\",\"age\":{}}}{late}}}\n", i % 9);
    }
    text += "{\"id\":\"c200\",\"pet\":{\"species\":\"dog\",\"age\":\"old\"}}\n[1,2]\n{\"id\":\n";
    let (table, scan) = read(text.as_bytes());
    let names: Vec<&str> = table.columns().iter().map(|c| c.name.as_str()).collect();
    assert_eq!(names, ["id", "pet.species", "pet.age", "late"]);
    let age = table.column("pet.age").expect("age");
    assert_eq!((age.kind, age.missing(), table.column("late").expect("late").missing()), (Kind::Number, 1, 152));
    assert_eq!((scan.rejected, scan.misfit_cells), (2, 1));
    let lines: Vec<u64> = scan.misfits.iter().map(|m| m.line).collect();
    assert_eq!(lines, [201, 202, 203]);
    assert_eq!(scan.misfits[1].kind, MisfitKind::NoObject);
    assert!(scan.misfits[2].sentence().contains("is not JSON"), "{}", scan.misfits[2].sentence());
}
