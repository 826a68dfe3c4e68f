//! Five files in five habits are understood without a setting.

use pronoia_core::intake::{Format, read_table};
use pronoia_core::progress::Unwatched;
use pronoia_core::{Kind, Table};
use pronoia_demo as demo;

fn read(bytes: &[u8], rows: usize) -> (Table, Format) {
    let (table, scan) = read_table(bytes, &Unwatched).expect("a table");
    assert_eq!((scan.rejected, scan.misfit_cells, table.rows()), (0, 0, rows), "{:?}", scan.plan.format);
    (table, scan.plan.format)
}

fn kinds(table: &Table, expected: &[(&str, Kind)]) {
    for (name, kind) in expected {
        assert_eq!(table.column(name).map(|c| c.kind), Some(*kind), "{name}");
    }
}

#[test]
fn the_workbook_of_agreements() {
    let made = demo::instalments(demo::AGREEMENTS, demo::SEED + 3);
    let (table, format) = read(&demo::instalments_xlsx(&made).expect("a workbook"), made.len());
    assert!(matches!(format, Format::Workbook { sheet, .. } if sheet == "Agreements"));
    kinds(
        &table,
        &[
            ("agreement_no", Kind::Code),
            ("signed_on", Kind::Date),
            ("amount_financed", Kind::Number),
            ("district", Kind::Code),
            ("treatment", Kind::Category),
        ],
    );
    let share = made.iter().filter(|a| a.fell_behind).count() as f64 / made.len() as f64;
    assert!((share - 0.09).abs() < 0.01, "{share}");
    for (row, a) in made.iter().enumerate() {
        assert_eq!(table.column("signed_on").expect("a day").number(row), Some(f64::from(a.signed)));
        assert_eq!(table.column("amount_financed").expect("money").number(row), Some(a.amount));
        assert_eq!(table.column("household_income").expect("income").number(row), a.income);
        assert_eq!(
            table.column("outcome").expect("outcome").text(row).as_deref() == Some("fell behind"),
            a.fell_behind
        );
    }
}

#[test]
fn the_json_lines_of_the_dental_offer() {
    let made = demo::dental_offer(demo::CONTACTS, demo::SEED + 4, demo::FIRST_CONTACT);
    let (table, _) = read(&demo::dental_offer_jsonl(&made), made.len());
    kinds(
        &table,
        &[
            ("customer", Kind::Code),
            ("contacted_on", Kind::Date),
            ("pet.species", Kind::Category),
            ("pet.age", Kind::Number),
            ("answered", Kind::YesNo),
        ],
    );
    let share = made.iter().filter(|c| c.answered).count() as f64 / made.len() as f64;
    assert!((share - 0.07).abs() < 0.01, "{share}");
    for (row, c) in made.iter().enumerate() {
        let dental = table.column("months_since_dental").expect("months").number(row);
        assert_eq!(dental, c.last_dental.map(f64::from));
        assert_eq!(table.column("answered").expect("answer").text(row).as_deref() == Some("true"), c.answered);
    }
}

#[test]
fn the_parquet_file_of_visits() {
    let people = demo::members(demo::MEMBERS, demo::SEED, demo::FIRST_MEMBER);
    let made = demo::visits(&people, demo::SEED + 2);
    assert!(made.len() > 60_000, "{}", made.len());
    let (table, format) = read(&demo::visits_parquet(&made).expect("a file"), made.len());
    assert_eq!(format, Format::Parquet);
    kinds(&table, &[("member_id", Kind::Code), ("visited_on", Kind::Date), ("cost", Kind::Number)]);
    for (row, v) in made.iter().enumerate() {
        assert_eq!(table.column("cost").expect("cost").number(row), Some(v.cost));
        assert_eq!(table.column("clinic").expect("clinic").text(row).as_deref(), Some(v.clinic));
    }
}
