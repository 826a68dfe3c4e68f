//! One table as a file of every format.

#![allow(dead_code, reason = "each test file uses its own part")]

use std::io::{Cursor, Write};
use std::sync::Arc;

use arrow_array::{ArrayRef, BooleanArray, Date32Array, Float64Array, Int32Array, RecordBatch, StringArray};
use pronoia_core::Table;
use pronoia_core::intake::{Scan, read_table};
use pronoia_core::progress::Unwatched;
use rust_xlsxwriter::Workbook;
use zip::write::SimpleFileOptions;

pub const ROWS: usize = 60;

pub fn batch() -> RecordBatch {
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

pub fn parquet(batch: &RecordBatch) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut writer = parquet::arrow::ArrowWriter::try_new(&mut bytes, batch.schema(), None).expect("a writer");
    writer.write(batch).expect("rows");
    writer.close().expect("an end");
    bytes
}

pub fn arrow(batch: &RecordBatch) -> Vec<u8> {
    let mut writer = arrow_ipc::writer::FileWriter::try_new(Vec::new(), &batch.schema()).expect("a writer");
    writer.write(batch).expect("rows");
    writer.into_inner().expect("bytes")
}

pub fn arrow_stream(batch: &RecordBatch) -> Vec<u8> {
    let mut writer = arrow_ipc::writer::StreamWriter::try_new(Vec::new(), &batch.schema()).expect("a writer");
    writer.write(batch).expect("rows");
    writer.into_inner().expect("bytes")
}

/// The same rows as cells of a workbook or values of JSON.
pub fn each_row(mut take: impl FnMut(usize, &Table)) {
    let (table, _) = read(&parquet(&batch()));
    (0..ROWS).for_each(|row| take(row, &table));
}

pub fn xlsx() -> Vec<u8> {
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

pub fn cell(kind: &str, value: &str) -> String {
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

pub fn ods() -> Vec<u8> {
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

pub fn zipped(parts: &[(&str, &[u8])]) -> Vec<u8> {
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in parts {
        let method =
            if *name == "mimetype" { zip::CompressionMethod::Stored } else { zip::CompressionMethod::Deflated };
        archive.start_file(*name, SimpleFileOptions::default().compression_method(method)).expect("a part");
        archive.write_all(bytes).expect("bytes");
    }
    archive.finish().expect("an archive").into_inner()
}

pub fn json_lines() -> Vec<u8> {
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

pub fn read(bytes: &[u8]) -> (Table, Scan) {
    read_table(bytes, &Unwatched).expect("a table")
}
