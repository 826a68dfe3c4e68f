//! Every format gives the same table, and damaged files a sentence.

use std::io::{Cursor, Write};
use std::sync::Arc;

use arrow_array::builder::{ListBuilder, StringBuilder};
use arrow_array::{ArrayRef, BooleanArray, Date32Array, Float64Array, Int32Array, RecordBatch, StringArray};
use pronoia_core::intake::{Format, Intake, IntakeError, MisfitKind, Scan, read_table};
use pronoia_core::progress::Unwatched;
use pronoia_core::{Kind, Table};
use proptest::prelude::*;
use rust_xlsxwriter::{Formula, Workbook};
use zip::write::SimpleFileOptions;

const ROWS: usize = 60;

fn batch() -> RecordBatch {
    let rows = || 0..ROWS as i32;
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("member", Arc::new(StringArray::from_iter_values(rows().map(|i| format!("{}", 1_000 + i))))),
        ("visits", Arc::new(Int32Array::from_iter(rows().map(|i| (i % 5 != 4).then_some(i % 5))))),
        ("fee", Arc::new(Float64Array::from_iter_values(rows().map(|i| f64::from(i) * 1.25)))),
        ("joined", Arc::new(Date32Array::from_iter_values(rows().map(|i| 19_000 + i)))),
        ("plan", Arc::new(StringArray::from_iter_values(rows().map(|i| ["Basic", "Plus", "Müller"][i as usize % 3])))),
        ("left", Arc::new(BooleanArray::from_iter(rows().map(|i| Some(i % 4 == 0))))),
    ];
    RecordBatch::try_from_iter(columns).expect("a batch")
}

fn parquet(batch: &RecordBatch) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut writer = parquet::arrow::ArrowWriter::try_new(&mut bytes, batch.schema(), None).expect("a writer");
    writer.write(batch).expect("rows");
    writer.close().expect("an end");
    bytes
}

fn arrow(batch: &RecordBatch) -> Vec<u8> {
    let mut writer = arrow_ipc::writer::FileWriter::try_new(Vec::new(), &batch.schema()).expect("a writer");
    writer.write(batch).expect("rows");
    writer.into_inner().expect("bytes")
}

fn arrow_stream(batch: &RecordBatch) -> Vec<u8> {
    let mut writer = arrow_ipc::writer::StreamWriter::try_new(Vec::new(), &batch.schema()).expect("a writer");
    writer.write(batch).expect("rows");
    writer.into_inner().expect("bytes")
}

/// The same rows as cells of a workbook or values of JSON.
fn each_row(mut take: impl FnMut(usize, &Table)) {
    let (table, _) = read(&parquet(&batch()));
    (0..ROWS).for_each(|row| take(row, &table));
}

fn xlsx() -> Vec<u8> {
    let mut book = Workbook::new();
    let sheet = book.add_worksheet();
    let day = rust_xlsxwriter::Format::new().set_num_format("dd.mm.yyyy");
    for (i, name) in ["member", "visits", "fee", "joined", "plan", "left"].into_iter().enumerate() {
        sheet.write(0, i as u16, name).expect("a name");
    }
    each_row(|row, t| {
        let (at, text) = (row as u32 + 1, |c: usize| t.columns()[c].text(row).expect("a value"));
        sheet.write(at, 0, text(0)).expect("a cell");
        if let Some(visits) = t.columns()[1].number(row) {
            sheet.write(at, 1, visits).expect("a cell");
        }
        sheet.write(at, 2, t.columns()[2].number(row)).expect("a cell");
        sheet.write_with_format(at, 3, 19_000 + row as i32 + 25_569, &day).expect("a cell");
        sheet.write(at, 4, text(4)).expect("a cell");
        sheet.write(at, 5, text(5) == "true").expect("a cell");
    });
    book.save_to_buffer().expect("a workbook")
}

fn cell(kind: &str, value: &str) -> String {
    match kind {
        "string" => {
            format!("<table:table-cell office:value-type=\"string\"><text:p>{value}</text:p></table:table-cell>")
        }
        "date" => format!("<table:table-cell office:value-type=\"date\" office:date-value=\"{value}\"/>"),
        "boolean" => format!("<table:table-cell office:value-type=\"boolean\" office:boolean-value=\"{value}\"/>"),
        "" => "<table:table-cell/>".into(),
        _ => format!("<table:table-cell office:value-type=\"float\" office:value=\"{value}\"/>"),
    }
}

fn ods() -> Vec<u8> {
    let mut rows = String::new();
    let mut add = |cells: &[(&str, String)]| {
        let cells: String = cells.iter().map(|(kind, value)| cell(kind, value)).collect();
        rows += &format!("<table:table-row>{cells}</table:table-row>");
    };
    add(&["member", "visits", "fee", "joined", "plan", "left"].map(|n| ("string", n.into())));
    each_row(|row, t| {
        let text = |c: usize| t.columns()[c].text(row).expect("a value");
        let visits = t.columns()[1].text(row);
        add(&[
            ("string", text(0)),
            (if visits.is_some() { "float" } else { "" }, visits.unwrap_or_default()),
            ("float", text(2)),
            ("date", text(3)),
            ("string", text(4)),
            ("boolean", text(5)),
        ]);
    });
    let content = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?><office:document-content \
         xmlns:office=\"urn:oasis:names:tc:opendocument:xmlns:office:1.0\" \
         xmlns:table=\"urn:oasis:names:tc:opendocument:xmlns:table:1.0\" \
         xmlns:text=\"urn:oasis:names:tc:opendocument:xmlns:text:1.0\"><office:body><office:spreadsheet>\
         <table:table table:name=\"Members\">{rows}</table:table></office:spreadsheet></office:body></office:document-content>"
    );
    zipped(&[
        ("mimetype", b"application/vnd.oasis.opendocument.spreadsheet"),
        ("META-INF/manifest.xml", b"<?xml version=\"1.0\"?><manifest:manifest xmlns:manifest=\"urn:oasis:names:tc:opendocument:xmlns:manifest:1.0\"/>"),
        ("content.xml", content.as_bytes()),
    ])
}

fn zipped(parts: &[(&str, &[u8])]) -> Vec<u8> {
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in parts {
        let method =
            if *name == "mimetype" { zip::CompressionMethod::Stored } else { zip::CompressionMethod::Deflated };
        archive.start_file(*name, SimpleFileOptions::default().compression_method(method)).expect("a part");
        archive.write_all(bytes).expect("bytes");
    }
    archive.finish().expect("an archive").into_inner()
}

fn json_lines() -> Vec<u8> {
    let mut out = String::new();
    each_row(|row, t| {
        let text = |c: usize| t.columns()[c].text(row).expect("a value");
        let visits = t.columns()[1].text(row).unwrap_or("null".into());
        out += &format!(
            "{{\"member\":\"{}\",\"visits\":{visits},\"fee\":{},\"joined\":\"{}\",\"plan\":\"{}\",\"left\":{}}}\n",
            text(0),
            text(2),
            text(3),
            text(4),
            text(5)
        );
    });
    out.into_bytes()
}

fn read(bytes: &[u8]) -> (Table, Scan) {
    read_table(bytes, &Unwatched).expect("a table")
}

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

/// How many damaged files of each format are tried: many more with the long evidence.
fn cases() -> u32 {
    if std::env::var_os("PRONOIA_TEST_SLOW").is_some() { 20_000 } else { 120 }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(cases()))]

    #[test]
    fn no_damage_makes_a_reader_panic(
        which in 0..6usize,
        at in any::<prop::sample::Index>(),
        bytes in proptest::collection::vec(any::<u8>(), 1..12),
        cut in proptest::option::of(any::<prop::sample::Index>()),
    ) {
        let mut file = WHOLE.with(|whole| whole[which].clone());
        let at = at.index(file.len());
        for (place, byte) in file[at..].iter_mut().zip(&bytes) {
            *place = *byte;
        }
        if let Some(cut) = cut {
            file.truncate(cut.index(file.len()));
        }
        match read_table(&file, &Unwatched) {
            Ok((table, scan)) => prop_assert_eq!(table.rows() as u64, scan.rows),
            Err(e) => prop_assert!(e.to_string().ends_with('.'), "{}", e),
        }
    }
}

thread_local! {
    /// A whole file of every format, to be damaged.
    static WHOLE: [Vec<u8>; 6] = [parquet(&batch()), arrow(&batch()), arrow_stream(&batch()), xlsx(), ods(), json_lines()];
}
