//! Expressions: SQL's logic of missing values, and errors that say where.

use pronoia_core::expression::{Expression, ExpressionError, Type};
use pronoia_core::intake::read_table;
use pronoia_core::progress::Unwatched;
use pronoia_core::{Kind, Table};

fn members() -> Table {
    let csv = "member,fee,pets,plan,joined,annual fee,pet.age\n\
               m1,100,2,Basic,2024-01-31,1,3\nm2,,1,Plus,2023-02-01,2,4\nm3,50.5,0,,2022-12-31,3,5\nm4,-4,4,Basic Extra,,4,6\n";
    read_table(csv.as_bytes(), &Unwatched).expect("a table").0
}

fn check(sql: &str) -> Result<Expression, ExpressionError> {
    Expression::check(sql, &Expression::columns_of(&members()))
}

/// The values as text, missing ones as a dash; the same whether a table is
/// short or long, though words are compared in another way in a long one.
fn values(sql: &str) -> String {
    let expression = check(sql).unwrap_or_else(|e| panic!("{sql}: {e}"));
    let (column, _) = expression.column("x", &members()).expect("values");
    let long = members().take(&(0..400).map(|row| row % 4).collect::<Vec<_>>());
    let (again, _) = expression.column("x", &long).expect("values");
    assert!((0..400).all(|row| again.text(row) == column.text(row % 4)), "{sql}");
    (0..4).map(|row| column.text(row).unwrap_or("-".into())).collect::<Vec<_>>().join(" ")
}

#[test]
fn values_are_those_of_sql() {
    for (sql, expected) in [
        ("fee / pets", "50 - - -1"),
        ("fee + pets * 2 - 1", "103 - 49.5 3"),
        ("-fee", "-100 - -50.5 4"),
        ("fee > 50", "yes - yes no"),
        ("fee > 50 OR pets = 1", "yes yes yes no"),
        ("NOT (fee > 50 AND pets > 1)", "no yes yes yes"),
        ("fee IS NULL", "no yes no no"),
        ("plan = 'Basic'", "yes no - no"),
        ("plan > 'Basic'", "no yes - yes"),
        ("plan <= member", "yes yes - yes"),
        ("'z' <> plan", "yes yes - yes"),
        ("plan IN ('Basic', 'Plus')", "yes yes - no"),
        ("plan NOT IN ('Basic', NULL)", "no - - -"),
        ("plan LIKE 'Basic%'", "yes no - yes"),
        ("plan LIKE '_lus'", "no yes - no"),
        ("fee BETWEEN 0 AND 60", "no - yes no"),
        ("CASE WHEN fee > 60 THEN 'high' WHEN fee > 0 THEN 'low' END", "high - low -"),
        ("CASE plan WHEN 'Basic' THEN 1 ELSE 2 END", "1 2 2 2"),
        ("COALESCE(fee, 0)", "100 0 50.5 -4"),
        ("NULLIF(pets, 0)", "2 1 - 4"),
        ("LEAST(fee, pets)", "2 1 0 -4"),
        ("GREATEST(fee, pets, 3)", "100 3 50.5 4"),
        ("SQRT(fee)", "10 - 7.106335201775948 -"),
        ("LN(pets)", "0.6931471805599453 0 - 1.3862943611198906"),
        ("ROUND(fee)", "100 - 50 -4"),
        ("UPPER(plan) || '!'", "BASIC! PLUS! - BASIC EXTRA!"),
        ("LENGTH(plan)", "5 4 - 11"),
        ("EXTRACT(YEAR FROM joined)", "2024 2023 2022 -"),
        ("EXTRACT(DOW FROM joined)", "3 3 6 -"),
        ("joined - DATE '2024-01-01'", "30 -334 -366 -"),
        ("joined > '2023-01-01'", "yes yes no -"),
        ("joined + 1", "2024-02-01 2023-02-02 2023-01-01 -"),
        ("\"annual fee\" * 2", "2 4 6 8"),
        ("pet.age + FEE", "103 - 55.5 2"),
        ("fee /* yearly */ + 1", "101 - 51.5 -3"),
    ] {
        assert_eq!(values(sql), expected, "{sql}");
    }
}

#[test]
fn what_has_no_value_is_counted() {
    let of = |sql: &str| check(sql).expect(sql).evaluate(&members()).expect(sql).undefined;
    assert_eq!(of("fee / pets"), 1);
    assert_eq!(of("0 / pets"), 1);
    assert_eq!(of("LN(fee)"), 1, "the logarithm of a missing value is missing and no more");
    assert_eq!(of("fee * 1e308 * 1e308"), 3);
    assert_eq!(of("fee + 1"), 0);
}

#[test]
fn errors_stand_under_the_offending_word() {
    let place = |sql: &str, part: &str, says: &str| {
        let error = check(sql).expect_err(sql);
        let at: String = sql.chars().skip(error.from).take(error.to - error.from).collect();
        assert_eq!(at, part, "{sql}: {error}");
        assert!(error.message.contains(says), "{sql}: {error}");
    };
    place("fee / petz", "petz", "Perhaps pets?");
    place("fee +\n  nothing_like_it", "nothing_like_it", "no column");
    place("plan = \"Basic\"", "\"Basic\"", "single quotes");
    place("fee + plan", "plan", "a number is needed");
    place("fee = 'high'", "'high'", "a number is needed");
    place("joined > 'soon'", "'soon'", "not a day");
    place("FOO(fee)", "FOO", "no function");
    place("fee > 1; DROP TABLE x", ";", "semicolon");
    place("fee pets", "pets", "could end before");
    place("(SELECT 1)", "SELECT 1", "one customer");
    place("fee % 2", "fee % 2", "operator");
    place("LN(fee, 2)", "LN(fee, 2)", "takes 1");
    place("fee IN (SELECT 1)", "fee IN (SELECT 1)", "one customer");
    for sql in ["", "  ", "fee +", "(fee", "'open", "CASE WHEN", "1 +* 2"] {
        let error = check(sql).expect_err(sql);
        assert!(error.to <= sql.chars().count().max(1) && error.from <= error.to, "{sql} {error:?}");
        assert!(error.message.ends_with('.') || error.message.ends_with('?'), "{sql}: {error}");
    }
}

#[test]
fn too_deep_and_too_long_are_refused() {
    let deep = format!("{}fee{}", "(".repeat(500), ")".repeat(500));
    assert!(check(&deep).expect_err("deep").message.contains("nests too deep"));
    let chain = vec!["fee"; 600].join(" + ");
    assert!(check(&chain).expect_err("long chain").message.contains("nests too deep"));
    assert!(check(&"1 + ".repeat(2_000)).expect_err("long").message.contains("at most"));
}

#[test]
fn a_condition_is_true_or_false_and_a_stored_one_reads_back() {
    let columns = Expression::columns_of(&members());
    assert!(
        Expression::check_condition("fee + 1", &columns).expect_err("no condition").message.contains("true or false")
    );
    let condition = Expression::check_condition("fee > 10 AND plan = 'Basic'", &columns).expect("a condition");
    assert_eq!((condition.result(), condition.kind()), (Type::Truth, Kind::YesNo));
    assert_eq!(condition.inputs().collect::<Vec<_>>(), ["fee", "plan"]);
    let stored = serde_json::to_string(&condition).expect("JSON");
    assert_eq!(serde_json::from_str::<Expression>(&stored).expect("the same"), condition);
    let other = read_table(b"plan,pets\nA,1\nB,2\n", &Unwatched).expect("a table").0;
    assert!(condition.evaluate(&other).expect_err("no fee").contains("“fee”"));
}
