//! Stored records against bare SQL on the same server: columns read back, a
//! roll-up of ten million rows, pages of a sorted table.
//!
//! `bench/records.sh` starts a server for it; `DATABASE_URL` names an empty database.

use std::time::Instant;

use pronoia_core::profile::TableProfile;
use pronoia_core::table::ColumnBuilder;
use pronoia_core::{Kind, Table};
use pronoia_store::Store;
use pronoia_store::records::{Join, JoinKind, Label, SealedFor, Sort, TableSource};
use sea_orm::{ConnectionTrait, Database, DatabaseConnection};

const CUSTOMERS: usize = 1_000_000;
const TRANSACTIONS: usize = 10_000_000;

/// Rows that are written at a time.
const CHUNK: usize = 100_000;

/// A column of the row's number.
type Fill = fn(&mut ColumnBuilder, usize);

/// Stores a table whose values follow from the number of the row.
async fn stored(store: &Store, workspace: i64, name: &str, rows: usize, columns: &[(String, Kind, Fill)]) -> i64 {
    let shape: Vec<_> = columns.iter().map(|(name, kind, _)| (name.clone(), *kind)).collect();
    let mut importer = store.begin_import(workspace, &shape).await.expect("begun");
    let mut first = Table::default();
    for from in (0..rows).step_by(CHUNK) {
        let built = columns.iter().map(|(name, kind, fill)| {
            let mut builder = ColumnBuilder::new(name, *kind);
            (from..(from + CHUNK).min(rows)).for_each(|row| fill(&mut builder, row));
            builder.finish()
        });
        first = Table::new(built.collect()).expect("a table");
        importer.add(&first).await.expect("written");
    }
    let source = TableSource { sentence: "synthetic".into(), rejected: 0, misfit_cells: 0 };
    let label = Label { name, source: &source, is_list: false };
    importer.seal(label, &TableProfile::of(&first), SealedFor::Itself).await.expect("sealed")
}

fn number(builder: &mut ColumnBuilder, row: usize) {
    builder.push_number((row.wrapping_mul(2_654_435_761) % 1_000_003) as f64 / 7.0);
}

fn word(builder: &mut ColumnBuilder, row: usize) {
    builder.push_word(["north", "south", "east", "west", "abroad"][row % 5]);
}

/// The middle of three runs, in seconds.
async fn timed<F: Future<Output = ()>>(mut run: impl FnMut() -> F) -> f64 {
    let mut taken = Vec::new();
    for _ in 0..3 {
        let begun = Instant::now();
        run().await;
        taken.push(begun.elapsed().as_secs_f64());
    }
    taken.sort_unstable_by(f64::total_cmp);
    taken[1]
}

async fn bare(db: &DatabaseConnection, sql: &str) {
    db.execute_unprepared(sql).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
}

#[tokio::main]
async fn main() {
    let url = std::env::var("DATABASE_URL").expect("DATABASE_URL names an empty database");
    let store = Store::open(&url).await.expect("the database");
    let db = Database::connect(&url).await.expect("the database");
    let workspace = store.create_account("bench@example.org", "a long password", "Bench", true).await.expect("made");
    let mut wide: Vec<(String, Kind, Fill)> =
        vec![("member".into(), Kind::Code, |b, row| b.push_word(&format!("m{row}")))];
    wide.extend((0..15).map(|i| (format!("number_{i}"), Kind::Number, number as Fill)));
    wide.extend((0..12).map(|i| (format!("word_{i}"), Kind::Category, word as Fill)));
    wide.push(("joined".into(), Kind::Date, |b, row| b.push_date(15_000 + (row % 4_000) as i32)));
    wide.push(("active".into(), Kind::YesNo, |b, row| b.push_word(if row % 3 == 0 { "yes" } else { "no" })));
    let customers = stored(&store, workspace, "customers", CUSTOMERS, &wide).await;
    let narrow: Vec<(String, Kind, Fill)> = vec![
        ("member".into(), Kind::Code, |b, row| b.push_word(&format!("m{}", row.wrapping_mul(7_919) % CUSTOMERS))),
        ("amount".into(), Kind::Number, number),
        ("day".into(), Kind::Date, |b, row| b.push_date(18_000 + (row % 700) as i32)),
    ];
    let transactions = stored(&store, workspace, "transactions", TRANSACTIONS, &narrow).await;
    bare(&db, &format!("ANALYZE workspace_{workspace}.table_{customers}, workspace_{workspace}.table_{transactions}"))
        .await;
    let table = store.table(workspace, customers).await.expect("the table");

    let back = timed(|| async {
        assert_eq!(store.columns(&table, None).await.expect("columns").rows(), CUSTOMERS);
    })
    .await;
    println!("all {CUSTOMERS} x {} columns back in core: {back:.2} s (aim 4)", wide.len());

    for (what, offset) in [("first", 0), ("middle", CUSTOMERS as u64 / 2), ("last", CUSTOMERS as u64 - 50)] {
        let sort = Sort { column: "number_3".into(), descending: false };
        let ours = timed(|| async {
            assert_eq!(store.page(&table, Some(&sort), offset, 50).await.expect("a page").rows.len(), 50);
        })
        .await;
        let sql = format!(
            "SELECT * FROM workspace_{workspace}.table_{customers} ORDER BY number_3, row_number LIMIT 50 OFFSET {offset}"
        );
        let theirs = timed(|| bare(&db, &sql)).await;
        println!("{what} page, sorted: {ours:.2} s; bare SQL {theirs:.2} s");
    }

    let join = Join {
        first: customers,
        second: transactions,
        first_key: "member".into(),
        second_key: "member".into(),
        take: JoinKind::RollUp { as_of: None },
        keep_unmatched: true,
        name: "rolled up".into(),
    };
    let ours = timed(|| async {
        // Neither side keeps what it made: dropping the table undoes it.
        drop(store.join(workspace, &join, || false).await.expect("rolled up"));
    })
    .await;
    let sql = format!(
        "BEGIN; CREATE TABLE bare AS SELECT a.*, coalesce(m.n, 0) AS n, m.amount, m.average, m.latest \
         FROM workspace_{workspace}.table_{customers} a LEFT JOIN (SELECT member, count(*) AS n, sum(amount) AS amount, \
         avg(amount) AS average, max(day) AS latest FROM workspace_{workspace}.table_{transactions} \
         WHERE member IS NOT NULL GROUP BY 1) m ON m.member = a.member; ROLLBACK"
    );
    let theirs = timed(|| bare(&db, &sql)).await;
    println!(
        "roll-up of {TRANSACTIONS} rows: {ours:.1} s; bare SQL {theirs:.1} s; {:.2} times (aim 1.2)",
        ours / theirs
    );
    let begun = Instant::now();
    store.key_account(workspace, &join).await.expect("an account");
    println!("account of its keys: {:.1} s", begun.elapsed().as_secs_f64());
}
