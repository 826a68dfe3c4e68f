//! Our evaluation of expressions against PostgreSQL's own answer.

use pronoia_core::expression::{Expression, Vector};
use pronoia_core::intake::read_table;
use pronoia_core::progress::Unwatched;
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::{Config, TestRunner};
use sea_orm::{ConnectionTrait, Database, DatabaseConnection, Statement};

const ROWS: &str = "k,a,b,t,u,d,e\n\
    r1,1.5,2,Basic,plus one,2024-01-31,2023-02-01\nr2,,0,Plus,,2022-12-31,\nr3,-4,3.25,,%x_,,2024-02-29\n\
    r4,0,-1,basic,Basic,2000-01-01,2000-01-02\nr5,100000,0.1,Ünï,ünï,1969-07-20,2038-01-19\nr6,7,7,a'b,a\\b,2024-06-15,2024-06-15\n";

fn numbers() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("a".to_owned()),
        Just("b".to_owned()),
        (-50..50i32).prop_map(|n| format!("({})", f64::from(n) / 4.0)),
        Just("EXTRACT(YEAR FROM d)".to_owned()),
        Just("EXTRACT(DOW FROM e)".to_owned()),
        Just("(d - e)".to_owned()),
        Just("LENGTH(t)".to_owned()),
    ];
    leaf.prop_recursive(4, 24, 3, |inner| {
        prop_oneof![
            (inner.clone(), prop_oneof![Just("+"), Just("-"), Just("*"), Just("/")], inner.clone())
                .prop_map(|(x, op, y)| format!("({x} {op} {y})")),
            (
                prop_oneof![Just("ABS"), Just("FLOOR"), Just("CEIL"), Just("ROUND"), Just("SQRT"), Just("LN")],
                inner.clone()
            )
                .prop_map(|(f, x)| format!("{f}({x})")),
            (inner.clone(), inner.clone()).prop_map(|(x, y)| format!("COALESCE({x}, {y})")),
            (inner.clone(), inner.clone()).prop_map(|(x, y)| format!("NULLIF({x}, {y})")),
            (inner.clone(), inner.clone(), inner.clone())
                .prop_map(|(x, y, z)| format!("GREATEST({x}, {y}, LEAST({z}, {x}))")),
            (inner.clone(), inner.clone(), inner)
                .prop_map(|(x, y, z)| format!("CASE WHEN {x} > {y} THEN {z} WHEN {y} IS NULL THEN 1 END")),
        ]
    })
}

fn texts() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("t".to_owned()),
        Just("u".to_owned()),
        Just("'Basic'".to_owned()),
        Just("'it''s'".to_owned()),
    ];
    leaf.prop_recursive(2, 6, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(x, y)| format!("({x} || {y})")),
            inner.clone().prop_map(|x| format!("LOWER({x})")),
            inner.clone().prop_map(|x| format!("UPPER({x})")),
            inner.clone().prop_map(|x| format!("TRIM({x})")),
            (inner.clone(), inner).prop_map(|(x, y)| format!("COALESCE(NULLIF({x}, {y}), 'none')")),
        ]
    })
}

fn truths() -> impl Strategy<Value = String> {
    let compared = || prop_oneof![Just("="), Just("<>"), Just("<"), Just("<="), Just(">"), Just(">=")];
    let leaf = prop_oneof![
        (numbers(), compared(), numbers()).prop_map(|(x, op, y)| format!("{x} {op} {y}")),
        (texts(), compared(), texts()).prop_map(|(x, op, y)| format!("{x} {op} {y}")),
        (Just("d"), compared(), prop_oneof![Just("e"), Just("DATE '2023-01-01'"), Just("(e + 30)"), Just("(d - 2.5)")])
            .prop_map(|(x, op, y)| format!("{x} {op} {y}")),
        (texts(), prop_oneof![Just("B%"), Just("%a%"), Just("_asic"), Just("%\\%%"), Just("%"), Just("")])
            .prop_map(|(x, form)| format!("{x} LIKE '{form}'")),
        numbers().prop_map(|x| format!("{x} IN (1, 2.5, NULL, a)")),
        numbers().prop_map(|x| format!("{x} NOT BETWEEN -1 AND b")),
        texts().prop_map(|x| format!("{x} IS NOT NULL")),
    ];
    leaf.prop_recursive(3, 12, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(x, y)| format!("({x} AND {y})")),
            (inner.clone(), inner.clone()).prop_map(|(x, y)| format!("({x} OR {y})")),
            inner.prop_map(|x| format!("NOT ({x})")),
        ]
    })
}

async fn theirs(db: &DatabaseConnection, sql: &str) -> Vec<Option<String>> {
    let query = format!("SELECT CAST({sql} AS text) AS v FROM rows ORDER BY k");
    let rows = db.query_all_raw(Statement::from_string(sea_orm::DbBackend::Postgres, query)).await;
    let rows = rows.unwrap_or_else(|e| panic!("{sql}: {e}"));
    rows.iter().map(|row| row.try_get::<Option<String>>("", "v").expect("text")).collect()
}

/// Whether a value of ours is the one that PostgreSQL wrote as text.
fn is_same(ours: &Vector, row: usize, theirs: Option<&str>) -> bool {
    let Some(theirs) = theirs else { return ours.is_missing(row) };
    if ours.is_missing(row) {
        return false;
    }
    match ours {
        Vector::Number(a) => {
            let (x, y) = (a.value(row), theirs.parse::<f64>().expect("a number"));
            (x - y).abs() <= 1e-12 * x.abs().max(1.0)
        }
        Vector::Truth(a) => theirs == if a.value(row) { "true" } else { "false" },
        other => other.clone().into_column("v").text(row).as_deref() == Some(theirs),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn expressions_mean_what_they_mean_in_postgresql() {
    let base = std::env::var("PRONOIA_TEST_DATABASE").expect("PRONOIA_TEST_DATABASE names a server; ./test sets it");
    let main = Database::connect(&base).await.expect("the server");
    let name = format!("expressions_{}", std::process::id());
    main.execute_unprepared(&format!("CREATE DATABASE {name}")).await.expect("a database");
    let db = Database::connect(format!("{}/{name}", base.rsplit_once('/').expect("a name").0)).await.expect("it");
    db.execute_unprepared(
        "CREATE TABLE rows (k text, a double precision, b double precision, t text, u text, d date, e date)",
    )
    .await
    .expect("a table");
    let (table, _) = read_table(ROWS.as_bytes(), &Unwatched).expect("rows");
    for row in 0..table.rows() {
        let value =
            |c: usize| table.columns()[c].text(row).map_or("NULL".into(), |v| format!("'{}'", v.replace('\'', "''")));
        let values = (0..7).map(value).collect::<Vec<_>>().join(", ");
        db.execute_unprepared(&format!("INSERT INTO rows VALUES ({values})")).await.expect("a row");
    }
    let columns = Expression::columns_of(&table);
    let cases = if std::env::var_os("PRONOIA_TEST_SLOW").is_some() { 20_000 } else { 2_000 };
    let mut runner = TestRunner::new_with_rng(
        Config::default(),
        proptest::test_runner::TestRng::deterministic_rng(proptest::test_runner::RngAlgorithm::ChaCha),
    );
    let any = prop_oneof![numbers(), texts(), truths()];
    for _ in 0..cases {
        let sql = any.new_tree(&mut runner).expect("an expression").current();
        let Ok(expression) = Expression::check(&sql, &columns) else {
            // Only what nests too deep for either side is refused.
            assert!(sql.len() > 200, "{sql}");
            continue;
        };
        let ours = expression.evaluate(&table).expect("values").values;
        let theirs = theirs(&db, &expression.to_sql()).await;
        for (row, value) in theirs.iter().enumerate() {
            assert!(is_same(&ours, row, value.as_deref()), "{sql}, row {}: {value:?} there", row + 1);
        }
    }
    db.close().await.expect("closed");
    main.execute_unprepared(&format!("DROP DATABASE {name}")).await.expect("dropped");
}
