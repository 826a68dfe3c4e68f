//! Records in the database: whatever a table holds comes back as it was, and conditions mean there what
//! they mean in `core`.

use crate::support::Server;
use pronoia_core::expression::Expression;
use pronoia_core::profile::TableProfile;
use pronoia_core::table::{ColumnBuilder, Storage};
use pronoia_core::{Kind, Table};
use pronoia_store::records::{Label, SealedFor, Sort, TableSource};
use pronoia_store::{Store, StoreError, record_table};
use rand::seq::IndexedRandom;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

const KINDS: [Kind; 6] = [Kind::Number, Kind::Category, Kind::Date, Kind::Text, Kind::Code, Kind::YesNo];

/// Names as files have them, some of which differ where a database does not look.
const NAMES: [&str; 16] = [
    "fee",
    "Fee",
    "FEE ",
    "row_number",
    "row_number_2",
    "ctid",
    "select",
    "a\"b",
    "a'b;--",
    "naïve “name”",
    "顧客番号",
    "🐕",
    "a column whose name is longer than any database would have it, part 1",
    "a column whose name is longer than any database would have it, part 2",
    "tab\there",
    "\\N",
];

/// Text that ways of writing rows down stumble over.
const TEXTS: [&str; 12] = [
    "",
    " ",
    "\\N",
    "NULL",
    "a\tb",
    "line\nbreak",
    "\\",
    "\"quoted\"",
    "'; DROP TABLE job; --",
    "ünï",
    "\u{202e}kcab",
    "0",
];

const NUMBERS: [f64; 10] = [0.0, -0.0, 1.0, -1.5, 0.1, 1e308, -1e308, 5e-324, 9_007_199_254_740_993.0, f64::EPSILON];

const DAYS: [i32; 6] = [0, -1, 19_782, -25_567, 2_932_896, -719_162];

fn random_table(rng: &mut ChaCha8Rng) -> Table {
    let rows = rng.random_range(0..40);
    let mut names = NAMES.to_vec();
    let columns = (0..rng.random_range(1..8)).map(|_| {
        let name = names.swap_remove(rng.random_range(0..names.len()));
        let kind = *KINDS.choose(rng).expect("one");
        let mut column = ColumnBuilder::new(name, kind);
        for _ in 0..rows {
            match (rng.random_range(0..5u8), kind.storage()) {
                (0, _) => column.push_missing(),
                (_, Storage::Numbers) => column.push_number(*NUMBERS.choose(rng).expect("one")),
                (_, Storage::Words) => column.push_word(TEXTS.choose(rng).expect("one")),
                (_, Storage::Dates) => column.push_date(*DAYS.choose(rng).expect("one")),
            }
        }
        column.finish()
    });
    Table::new(columns.collect()).expect("a table")
}

fn texts(table: &Table) -> Vec<Vec<Option<String>>> {
    table.columns().iter().map(|column| (0..table.rows()).map(|row| column.text(row)).collect()).collect()
}

fn bits(table: &Table) -> Vec<Vec<Option<u64>>> {
    table
        .columns()
        .iter()
        .map(|column| (0..table.rows()).map(|row| column.number(row).map(f64::to_bits)).collect())
        .collect()
}

async fn workspace() -> (Server, Store, i64) {
    let server = Server::start().await;
    let store = server.store().await;
    let workspace = store.create_account("a@example.org", "a long enough password", "W", false).await.expect("made");
    (server, store, workspace)
}

/// Brings rows in, in some pieces.
async fn kept(store: &Store, workspace: i64, name: &str, pieces: &[Table]) -> record_table::Model {
    let mut importer = store.begin_import(workspace, &pieces[0].kinds()).await.expect("begun");
    for piece in pieces {
        importer.add(piece).await.expect("added");
    }
    let profile = TableProfile::of_parts(pieces);
    let source = TableSource { sentence: "a test".into(), rejected: 0, misfit_cells: 0 };
    let label = Label { name, source: &source, is_list: false };
    let id = importer.seal(label, &profile, SealedFor::Itself).await.expect("sealed");
    store.table(workspace, id).await.expect("the table")
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_a_table_holds_comes_back_as_it_was() {
    let (_server, store, workspace) = workspace().await;
    let mut rng = ChaCha8Rng::seed_from_u64(11);
    for at in 0..30 {
        let table = random_table(&mut rng);
        let cut = rng.random_range(0..=table.rows());
        let pieces = [0..cut, cut..table.rows()].map(|rows| table.take(&rows.collect::<Vec<_>>()));
        let row = kept(&store, workspace, &format!("table {at}"), &pieces).await;
        assert_eq!((row.rows as usize, row.kinds().expect("kinds")), (table.rows(), table.kinds()), "{at}");
        let back = store.columns(&row, None).await.expect("columns");
        assert_eq!(texts(&back), texts(&table), "{at}");
        assert_eq!(bits(&back), bits(&table), "{at}: to the last bit, and of the right sign");
        assert_eq!(row.figures().expect("figures"), TableProfile::of(&table), "{at}");

        // Some of the columns, in another order.
        let mut some = row.names().expect("names");
        some.reverse();
        some.truncate(2);
        let found = store.columns(&row, Some(&some)).await.expect("columns");
        for name in &some {
            let (found, whole) = (found.column(name).expect("it"), table.column(name).expect("it"));
            assert!((0..table.rows()).all(|row| found.text(row) == whole.text(row)), "{at}: {name}");
        }
        // Part by part, and every third row.
        let mut parts = store.parts(&row, None, 7).await.expect("parts");
        let mut met = Vec::new();
        while let Some(part) = parts.next().await.expect("a part") {
            met.push(part);
        }
        if table.rows() > 0 {
            assert_eq!(texts(&Table::concat(&met).expect("a table")), texts(&table), "{at}");
        }
        let names = row.names().expect("names");
        let third = store.every_nth(&row, &names, 3).await.expect("rows");
        let expected = table.take(&(0..table.rows()).step_by(3).collect::<Vec<_>>());
        assert_eq!(texts(&third), texts(&expected), "{at}");
        let all = texts(&table);
        assert_eq!(store.first_rows(&row, &names, 4).await.expect("rows").rows(), table.rows().min(4));
        let page = store.page(&row, None, 0, 100).await.expect("a page");
        assert_eq!(
            page.rows.iter().map(|(number, _)| *number).collect::<Vec<_>>(),
            (1..=table.rows() as i64).collect::<Vec<_>>()
        );
        assert!(
            page.rows
                .iter()
                .enumerate()
                .all(|(of, (_, values))| values.iter().zip(&all).all(|(value, column)| *value == column[of])),
            "{at}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn conditions_mean_the_same_there_and_here() {
    let (_server, store, workspace) = workspace().await;
    let mut rng = ChaCha8Rng::seed_from_u64(3);
    let mut fee = ColumnBuilder::new("annual fee", Kind::Number);
    let mut plan = ColumnBuilder::new("plan", Kind::Category);
    let mut joined = ColumnBuilder::new("joined", Kind::Date);
    for _ in 0..500 {
        if rng.random_range(0..6u8) == 0 {
            fee.push_missing()
        } else {
            fee.push_number(f64::from(rng.random_range(-20..200i32)) / 4.0)
        }
        if rng.random_range(0..6u8) == 0 {
            plan.push_missing()
        } else {
            plan.push_word(["Basic", "Plus", "plus ", "O'Neill", "50 %", ""].choose(&mut rng).expect("one"))
        }
        if rng.random_range(0..6u8) == 0 {
            joined.push_missing()
        } else {
            joined.push_date(rng.random_range(19_000..20_000))
        }
    }
    let table = Table::new(vec![fee.finish(), plan.finish(), joined.finish()]).expect("a table");
    let row = kept(&store, workspace, "members", std::slice::from_ref(&table)).await;
    let columns = Expression::columns_of(&table);
    for sql in [
        "\"annual fee\" > 12.5",
        "\"annual fee\" <> 0 OR plan = 'Basic'",
        "NOT (\"annual fee\" > 10)",
        "\"annual fee\" BETWEEN -5 AND 5 AND plan IS NOT NULL",
        "plan IN ('Plus', 'O''Neill')",
        "plan NOT IN ('Plus', 'Basic')",
        "plan LIKE 'p%'",
        "plan LIKE '%\\%'",
        "plan = ''",
        "plan IS NULL",
        "joined >= DATE '2022-06-01' AND joined < DATE '2023-01-01'",
        "joined > DATE '2023-01-01' OR \"annual fee\" IS NULL",
        "100 / \"annual fee\" > 3",
        "CASE WHEN plan = 'Plus' THEN \"annual fee\" ELSE 1 END > 7",
        "COALESCE(\"annual fee\", 0) = 0",
        "1 = 2",
    ] {
        let condition = Expression::check_condition(sql, &columns).unwrap_or_else(|e| panic!("{sql}: {e:?}"));
        let here: Vec<i64> = condition
            .holds(&table)
            .expect("values")
            .iter()
            .enumerate()
            .filter(|(_, holds)| **holds == Some(true))
            .map(|(at, _)| at as i64 + 1)
            .collect();
        assert_eq!(
            store.count_those(&row, &condition).await.unwrap_or_else(|e| panic!("{sql}: {e}")),
            here.len() as u64,
            "{sql}"
        );
        let joined = table.column("joined").expect("a date");
        for descending in [false, true] {
            let mut there = Vec::new();
            for offset in (0..=here.len() as u64).step_by(100) {
                let sort = Sort { column: "joined".into(), descending };
                let rows = store.those(&row, &condition, &sort, (offset, 100)).await.expect("rows").rows;
                there.extend(rows.iter().map(|(number, _)| *number));
            }
            // Those without a date come last either way.
            let days: Vec<Option<f64>> = there.iter().map(|number| joined.number(*number as usize - 1)).collect();
            let ordered = days.windows(2).all(|pair| match pair {
                [Some(a), Some(b)] => {
                    if descending {
                        a >= b
                    } else {
                        a <= b
                    }
                }
                [before, after] => before.is_some() || after.is_none(),
                _ => true,
            });
            assert!(ordered, "{sql}, descending {descending}: {days:?}");
            there.sort_unstable();
            assert_eq!(there, here, "{sql}: page after page, each of them once");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_does_not_fit_or_is_not_finished_leaves_nothing() {
    let (server, store, workspace) = workspace().await;
    let left = "SELECT count(*)::text FROM pg_class WHERE relnamespace = (SELECT oid FROM pg_namespace WHERE nspname LIKE 'workspace_%') AND relkind = 'r'";
    kept(&store, workspace, "one", &[random_table(&mut ChaCha8Rng::seed_from_u64(1))]).await;
    assert_eq!(server.answer(left).await, "1");

    // Text of its own takes a place elsewhere, but a thousand places are more than a row has.
    let wide: Vec<_> = (0..1_000)
        .map(|at| {
            let mut column = ColumnBuilder::new(format!("c{at}"), Kind::Text);
            column.push_word(&"some words that are different ".repeat(3 + at % 3));
            column.finish()
        })
        .collect();
    let wide = Table::new(wide).expect("a table");
    let mut importer = store.begin_import(workspace, &wide.kinds()).await.expect("begun");
    let refused = importer.add(&wide).await.err();
    assert!(matches!(&refused, Some(StoreError::TooWide(words)) if words.contains("Drop columns")), "{refused:?}");
    drop(importer);
    let too_many: Vec<(String, Kind)> = (0..1_700).map(|at| (format!("c{at}"), Kind::Number)).collect();
    let refused = store.begin_import(workspace, &too_many).await.err();
    assert!(matches!(refused, Some(StoreError::TooWide(_))), "{refused:?}");

    let small = random_table(&mut ChaCha8Rng::seed_from_u64(2));
    let mut importer = store.begin_import(workspace, &small.kinds()).await.expect("begun");
    importer.add(&small).await.expect("added");
    drop(importer);
    crate::support::until("what was begun is gone", || async { (server.answer(left).await == "1").then_some(()) })
        .await;
    assert_eq!(store.tables(workspace).await.expect("tables").len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn versions_of_a_name_are_counted_and_only_ours_are_seen() {
    let (_server, store, ours) = workspace().await;
    let theirs = store.create_account("b@example.org", "a long enough password", "V", false).await.expect("made");
    let mut rng = ChaCha8Rng::seed_from_u64(5);
    let mut ids = Vec::new();
    for (workspace, name, version) in
        [(ours, "members", 1), (ours, "members", 2), (theirs, "members", 1), (ours, "Members", 1), (ours, "members", 3)]
    {
        let row = kept(&store, workspace, name, &[random_table(&mut rng)]).await;
        assert_eq!((row.version, row.name.as_str()), (version, name));
        ids.push(row.id);
    }
    assert!(matches!(store.table(ours, ids[2]).await, Err(StoreError::NotFound(_))));
    assert!(matches!(store.table(theirs, ids[0]).await, Err(StoreError::NotFound(_))));
    let seen = store.tables(theirs).await.expect("tables");
    assert_eq!(seen.iter().map(|table| table.id).collect::<Vec<_>>(), [ids[2]]);
}
