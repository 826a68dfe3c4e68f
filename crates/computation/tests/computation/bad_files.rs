//! Damaged and unusual files: a sentence that says where, and never a panic.

use pronoia_core::Kind;
use pronoia_core::intake::{Intake, IntakeError, MisfitKind, read_table};
use pronoia_core::progress::Unwatched;
use proptest::prelude::*;

fn error(bytes: &[u8]) -> IntakeError {
    read_table(bytes, &Unwatched).expect_err("no table")
}

#[test]
fn files_without_rows_or_columns_are_refused_in_words() {
    assert!(matches!(error(b""), IntakeError::Empty));
    assert!(matches!(error(b"\n  \n"), IntakeError::Empty));
    assert!(matches!(error(b"a,b,c\n"), IntakeError::HeaderOnly { columns: 3 }));
    assert!(matches!(error(b"name\nx\ny\n"), IntakeError::OneColumn { .. }));
    assert!(matches!(error(b"PK\x03\x04rest of a workbook"), IntakeError::Damaged { .. }));
    let names: Vec<String> = (0..5_000).map(|i| format!("c{i}")).collect();
    let wide = format!("{}\n{}\n", names.join(","), names.join(","));
    let sentence = error(wide.as_bytes()).to_string();
    assert!(sentence.contains("5000 columns"), "{sentence}");
}

#[test]
fn a_header_of_fifty_megabytes_gives_a_short_sentence() {
    let many = 50 << 20;
    let one_name = "n".repeat(many);
    let long_names = format!("{},{}", "a".repeat(many / 2), "b".repeat(many / 2));
    let quoted = format!("\"{}\",b", "a".repeat(many));
    let never_closed = format!("\"{}", "a,".repeat(many / 2));
    let columns = "ab,".repeat(many / 3);
    for (what, header) in [
        ("one name", one_name),
        ("two names", long_names),
        ("a quoted name", quoted),
        ("a quote that is not closed", never_closed),
        ("many columns", columns),
    ] {
        for rows in ["", "\n1,2\n3,4\n"] {
            let begun = std::time::Instant::now();
            let sentence = error(format!("{header}{rows}").as_bytes()).to_string();
            assert!(sentence.len() < 400, "{what}: {} bytes: {}", sentence.len(), &sentence[..200]);
            assert!(begun.elapsed().as_secs_f64() < 5.0, "{what}: {:?}", begun.elapsed());
        }
    }
}

#[test]
fn bytes_that_mean_nothing_are_not_a_table() {
    use rand::{Rng, SeedableRng};
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(7);
    for size in [300, 4_000, 100_000, 1 << 20] {
        for _ in 0..8 {
            let mut bytes = vec![0; size];
            rng.fill_bytes(&mut bytes);
            let read = read_table(&bytes, &Unwatched);
            assert!(read.is_err(), "{size}: {:?}", read.map(|(table, _)| (table.rows(), table.kinds())));
            // Nor without the control characters that show it at once; where there is enough of it to tell.
            if size < 4_000 {
                continue;
            }
            bytes
                .iter_mut()
                .filter(|byte| **byte < 32 && ![b'\n', b'\r', b'\t'].contains(byte))
                .for_each(|byte| *byte = b'x');
            let read = read_table(&bytes, &Unwatched);
            assert!(read.is_err(), "{size}, printable: {:?}", read.map(|(table, _)| (table.rows(), table.kinds())));
        }
    }
}

#[test]
fn text_that_was_encoded_twice_is_text() {
    let names = ["Éloi", "Müller", "Ångström", "Œuvre", "– dash –"];
    let once: String = (0..200).map(|i| format!("{},{i}\n", names[i % 5])).collect();
    let twice: String = format!("name,fee\n{once}").bytes().map(char::from).collect();
    assert_eq!(read_table(twice.as_bytes(), &Unwatched).expect("a table").0.rows(), 200);
}

#[test]
fn rows_that_do_not_fit_are_counted_with_their_lines() {
    let (table, scan) = read_table(b"id,fee,plan\n1,2.5,A\n2,3\n3,4.5,B,extra\n4,5,C\n", &Unwatched).expect("a table");
    assert_eq!((table.rows(), scan.rejected), (2, 2));
    let lines: Vec<u64> = scan.misfits.iter().map(|m| m.line).collect();
    assert_eq!(lines, [3, 4]);
    assert_eq!(scan.misfits[0].kind, MisfitKind::Ragged { found: 2, expected: 3 });
    assert_eq!(scan.misfits[0].row, "2,3");
}

#[test]
fn empty_lines_are_counted_and_passed_over() {
    let (table, scan) = read_table(b"\nid,plan\n\n\n1,A\n\n  \n2\r\n\r\n\"3\",B\n4", &Unwatched).expect("a table");
    assert_eq!((table.rows(), scan.rejected), (2, 2));
    let lines: Vec<u64> = scan.misfits.iter().map(|m| m.line).collect();
    assert_eq!(lines, [8, 11]);
}

#[test]
fn a_column_that_turns_out_otherwise_than_it_looked_at_first_is_read_as_it_is() {
    let mut text = String::from("id,paid,since,share\n");
    for i in 0..12_000 {
        let paid = if i < 9_000 { i.to_string() } else { format!("bill {i}") };
        let since = if i < 9_000 { format!("0{}/02/2024", 1 + i % 9) } else { format!("{}/02/2024", 13 + i % 9) };
        let share = if i < 9_000 { format!("{}.500", 1 + i % 9) } else { format!("{},25", i % 9) };
        text += &format!("k{i};{paid};{since};{share}\n");
    }
    let text = text.replacen(',', ";", 3);
    let (table, scan) = read_table(text.as_bytes(), &Unwatched).expect("a table");
    let column = |name| table.column(name).expect("a column");
    assert_eq!(column("paid").text(3).as_deref(), Some("3"));
    assert_eq!(column("paid").text(11_000).as_deref(), Some("bill 11000"));
    assert_eq!((column("since").kind, column("since").missing()), (Kind::Date, 0));
    assert_eq!((column("share").number(0), column("share").number(11_000)), (Some(1_500.0), Some(2.25)));
    assert_eq!(scan.misfit_cells, 0);
}

#[test]
fn a_nul_byte_rejects_its_row_only() {
    let (table, scan) = read_table(b"id,plan\n1,A\n2,B\0\n3,C\n", &Unwatched).expect("a table");
    assert_eq!((table.rows(), scan.misfits[0].line), (2, 3));
    assert_eq!(scan.misfits[0].kind, MisfitKind::NulByte);
}

#[test]
fn an_open_quote_is_found_where_it_opens() {
    let mut text = String::from("id,plan,fee\n");
    (1..=30).for_each(|i| text += &format!("{i},P{},{i}\n", i % 3));
    text += "31,\"P1,31\n";
    (32..=60).for_each(|i| text += &format!("{i},P{},{i}\n", i % 3));
    let (table, scan) = read_table(text.as_bytes(), &Unwatched).expect("a table");
    assert_eq!(table.rows(), 30);
    assert_eq!((scan.misfits[0].line, &scan.misfits[0].kind), (32, &MisfitKind::OpenQuote));
}

#[test]
fn text_over_several_lines_in_quotes_is_one_value() {
    let (table, scan) = read_table(b"id,note,fee\n1,\"first\nsecond\",3\n2,\"x\",4\n", &Unwatched).expect("a table");
    assert_eq!((table.rows(), scan.rejected), (2, 0));
    assert_eq!(table.column("note").expect("note").text(0).as_deref(), Some("first\nsecond"));
}

#[test]
fn names_are_made_distinct_and_said_so() {
    let (table, scan) = read_table("fee,fee,,שם\n1,2,3,4\n".as_bytes(), &Unwatched).expect("a table");
    let names: Vec<&str> = table.columns().iter().map(|c| c.name.as_str()).collect();
    assert_eq!(names, ["fee", "fee (2)", "column 3", "שם"]);
    assert!(scan.notes.iter().any(|n| n.contains("Two columns are called “fee”")), "{:?}", scan.notes);
}

#[test]
fn encodings_and_separators_are_found() {
    let continental = encoding_rs::WINDOWS_1252.encode("name;fee\nMüller;1.234,5\nÉloi;2,5\n").0.into_owned();
    let mut utf16 = vec![0xff, 0xfe];
    "name\tfee\nMüller\t1234.5\nÉloi\t2.5\n".encode_utf16().for_each(|u| utf16.extend(u.to_le_bytes()));
    let bom = "\u{feff}name|fee\nMüller|1234.5\nÉloi|2.5\n".as_bytes().to_vec();
    for bytes in [continental, utf16, bom] {
        let (table, scan) = read_table(&bytes, &Unwatched).expect("a table");
        let (name, fee) = (table.column("name").expect("name"), table.column("fee").expect("fee"));
        assert_eq!(name.text(0).as_deref(), Some("Müller"), "{:?}", scan.plan.format);
        assert_eq!((fee.kind, fee.number(0), fee.number(1)), (Kind::Number, Some(1234.5), Some(2.5)));
    }
}

#[test]
fn a_cell_that_is_no_number_counts_as_missing_and_is_listed() {
    let mut text = String::from("id,visits\n");
    (0..300).for_each(|i| text += &format!("c{i},{}\n", i % 7));
    text += "c300,seven\n";
    let (table, scan) = read_table(text.as_bytes(), &Unwatched).expect("a table");
    assert_eq!(table.column("visits").expect("visits").missing(), 1);
    assert_eq!((scan.misfit_cells, scan.misfits[0].line), (1, 302));
    assert!(scan.misfits[0].sentence().contains("seven"));
    let open = || Ok(std::io::Cursor::new(text.clone().into_bytes()));
    let scanned = Intake { open, size: 0, sheet: None }.scan(&Unwatched).expect("a scan");
    assert_eq!(scanned, scan, "the preview says what the import will do");
}

/// Rows as programs write them: plain, in quotes, with quotes in quotes, over several lines, with letters
/// of two bytes; any of them may lie across the pieces in which a file is read.
fn many_rows(rows: usize, end: &str) -> String {
    let mut text = format!("id,note,amount{end}");
    for i in 0..rows {
        let note = match i % 7 {
            0 => format!("plain {i}"),
            1 => format!("\"in quotes {i}\""),
            2 => format!("\"he said \"\"no\"\" {i}\""),
            3 => format!("\"first{end}second {i}\""),
            4 => format!("Größe {i} für Éloïse"),
            5 => format!("5\" pipe {i}"),
            _ => format!("\"comma, {i}\""),
        };
        text += &format!("k{i},{note},{}.25{end}", i % 1_000);
    }
    text
}

#[test]
fn rows_that_lie_across_the_pieces_of_a_file_are_whole() {
    for end in ["\n", "\r\n"] {
        let text = many_rows(60_000, end);
        assert!(text.len() > 1_500_000, "several pieces");
        let (table, scan) = read_table(text.as_bytes(), &Unwatched).expect("a table");
        assert_eq!((table.rows(), scan.rejected, scan.misfit_cells), (60_000, 0, 0));
        let mut reader = csv::Reader::from_reader(text.as_bytes());
        for (row, record) in reader.records().enumerate() {
            let record = record.expect("a record");
            let column = |at: usize| &table.columns()[at];
            assert_eq!(column(0).text(row).as_deref(), Some(&record[0]));
            assert_eq!(column(1).text(row).as_deref(), Some(&record[1]), "row {row}");
            assert_eq!(column(2).number(row), record[2].parse().ok());
        }
    }
}

#[test]
fn a_row_that_is_not_text_leaves_those_around_it_as_they_are() {
    let mut bytes = many_rows(20_000, "\n").into_bytes();
    // Far enough in for the encoding to be settled: a letter of two bytes loses its second.
    let at = bytes.windows(2).rposition(|pair| pair == "ö".as_bytes()).expect("a letter");
    bytes[at + 1] = b'x';
    let (table, scan) = read_table(&bytes, &Unwatched).expect("a table");
    assert_eq!((table.rows(), scan.rejected), (20_000, 0));
    let notes = &table.columns()[1];
    let changed: Vec<String> =
        (0..20_000).filter_map(|row| notes.text(row)).filter(|note| note.contains('\u{fffd}')).collect();
    assert_eq!(changed.len(), 1, "{changed:?}");
    assert!(changed[0].starts_with("Gr\u{fffd}x"), "{changed:?}");
    assert_eq!(table.columns()[0].text(19_999).as_deref(), Some("k19999"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn no_bytes_whatever_make_it_panic(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
        let _ = read_table(&bytes, &Unwatched);
    }

    #[test]
    fn no_text_whatever_makes_it_panic(text in "[a-c0-9,;\"'\n\t|.\u{e4}\0-]{0,300}") {
        if let Ok((table, scan)) = read_table(text.as_bytes(), &Unwatched) {
            prop_assert_eq!(table.rows() as u64, scan.rows);
        }
    }

    #[test]
    fn fields_end_where_they_do_for_any_reader(text in "([a-d ]{0,2}|[,\n]|\r\n|\r|\"[a-d,\n]{0,3}\"){0,60}") {
        let text = format!("first,second\n{text}");
        let mut reader = csv::ReaderBuilder::new().flexible(true).from_reader(text.as_bytes());
        // A field with a whole row in it was opened by a quote that nobody closed.
        let swallows = |field: &str| field.split('\n').skip(1).any(|line| line.matches(',').count() == 1);
        let fields: Vec<Vec<String>> = reader
            .records()
            .map(|record| record.expect("text"))
            .filter(|record| record.len() == 2 && !record.iter().any(swallows))
            .map(|r| r.iter().map(|f| f.trim().to_owned()).collect())
            .collect();
        match read_table(text.as_bytes(), &Unwatched) {
            Err(_) => prop_assert!(fields.is_empty()),
            Ok((table, _)) => {
                let read = |row: usize| table.columns().iter().map(|c| c.text(row).unwrap_or_default()).collect();
                let rows: Vec<Vec<String>> = (0..table.rows()).map(read).collect();
                prop_assert_eq!(rows, fields);
            }
        }
    }

    #[test]
    fn what_is_written_reads_back(words in proptest::collection::vec("[a-zäß \",]{1,12}", 2..30)) {
        let mut writer = csv::Writer::from_writer(Vec::new());
        writer.write_record(["n", "word"]).expect("header");
        for (i, word) in words.iter().enumerate() {
            writer.write_record([format!("k{i}"), format!("w{word}w")]).expect("row");
        }
        let (table, _) = read_table(&writer.into_inner().expect("bytes"), &Unwatched).expect("a table");
        prop_assert_eq!(table.rows(), words.len());
        for (i, word) in words.iter().enumerate() {
            let expected = format!("w{word}w");
            prop_assert_eq!(table.columns()[1].text(i), Some(expected));
        }
    }
}
