//! Questions written anew: what is let through, in what form, and what is refused where.

use pronoia_store::queries::rewrite::{Relation, Relations, Rewritten, TableLookup};
use pronoia_store::queries::{QueryError, rewritten};

/// One table with a few columns.
struct Members;

impl Relations for Members {
    fn find(&self, name: &[String]) -> TableLookup {
        let columns = ["id", "fee", "Öffnung", "count"].map(str::to_owned).to_vec();
        match name {
            [name] if name == "members" => TableLookup::Found(Relation {
                schema: "ask_1".into(),
                name: "table_7".into(),
                columns,
                is_renamed: true,
            }),
            _ => TableLookup::Missing,
        }
    }
}

fn asked(sql: &str) -> Rewritten {
    rewritten(sql, &Members).unwrap_or_else(|e| panic!("{sql}: {e}"))
}

/// What is said, and the word that it is said of.
fn refused(sql: &str) -> (String, Option<String>) {
    match rewritten(sql, &Members).map(|r| r.sql().to_owned()).expect_err(sql) {
        QueryError::Question { sentence, place } => {
            let marked = place.map(|p| sql.chars().skip(p.start).take(p.len()).collect());
            (sentence, marked)
        }
        QueryError::Store(e) => panic!("{e}"),
    }
}

#[test]
fn a_question_is_written_anew_with_every_name_looked_up() {
    let one = asked("select ID, m.fee AS \"The fee\" from MEMBERS m where \"Öffnung\" = 'it''s' -- )\n;");
    assert_eq!(
        one.sql(),
        "SELECT \"id\" AS \"id\", \"m\".\"fee\" AS \"The fee\" FROM \"ask_1\".\"table_7\" AS \"m\"(\"id\", \"fee\", \"Öffnung\", \"count\") WHERE (\"Öffnung\" = 'it''s')"
    );
    assert_eq!(one.columns, ["id", "The fee"]);
    let all = asked("SELECT *, count(*) OVER () FROM members a JOIN members b USING (id) ORDER BY fee DESC LIMIT 3");
    assert_eq!(all.columns, ["id", "fee", "Öffnung", "count", "fee", "Öffnung", "count", "count"]);
    assert!(all.sql().contains("AS \"a\"(") && all.sql().contains("AS \"b\"("), "{}", all.sql());
}

#[test]
fn literals_of_every_kind_come_out_in_one_form() {
    for sql in ["SELECT $$a'b\\c$$", "SELECT $t$a'b\\c$t$", "SELECT E'a\\'b\\\\c'", "SELECT 'a''b\\c'"] {
        assert!(asked(sql).sql().contains(" E'a''b\\\\c'"), "{sql}: {}", asked(sql).sql());
    }
    assert!(refused("SELECT $€$,' $€$ AS x) TO STDOUT; ROLLBACK; COPY (SELECT 1 --'").0.len() > 10);
}

#[test]
fn names_that_postgresql_would_make_up_are_given() {
    let columns = asked(
        "SELECT 1, fee + 1, fee::text, upper('a'), CASE WHEN TRUE THEN 1 END, CASE WHEN TRUE THEN 1 ELSE fee END, DATE '2026-01-01', (SELECT fee FROM members LIMIT 1), coalesce(fee, 0), EXTRACT(year FROM now()), TRUE, EXISTS (SELECT 1), 'x'::varchar(3) FROM members",
    );
    let expected = [
        "?column?", "?column?", "fee", "upper", "case", "fee", "date", "fee", "coalesce", "extract", "bool", "exists",
        "varchar",
    ];
    assert_eq!(columns.columns, expected);
}

#[test]
fn columns_that_are_not_there_are_no_calls_of_functions() {
    // PostgreSQL takes table.function for a call of the function.
    for (sql, word) in [
        ("SELECT m.to_json FROM members m", "to_json"),
        ("SELECT members.array_agg FROM members", "array_agg"),
        ("SELECT m.ctid FROM members m", "ctid"),
        ("SELECT xmin FROM members", "xmin"),
        ("SELECT fees FROM members", "fees"),
        ("SELECT (SELECT x.json_agg FROM (SELECT 1 AS a) x) FROM (SELECT 1 AS json_agg) x", "json_agg"),
    ] {
        let (sentence, marked) = refused(sql);
        assert!(sentence.starts_with("There is no column") && marked.as_deref() == Some(word), "{sql}: {sentence}");
    }
    assert!(refused("SELECT fees FROM members").0.contains("Perhaps fee is meant"));
    assert!(refused("SELECT members FROM members").0.contains("is a table"));
    assert!(asked("SELECT members.count FROM members").sql().contains("\"members\".\"count\""));
}

#[test]
fn everything_else_is_refused_where_it_stands() {
    assert!(refused("SELECT 1; DROP TABLE t").0.contains("second statement"));
    for sql in [
        "DROP TABLE t",
        "INSERT INTO t VALUES (1)",
        "SELECT * INTO x FROM t",
        "COPY t TO '/tmp/x'",
        "SET ROLE x",
        "WITH x AS (DELETE FROM t RETURNING 1) SELECT 1",
        "SELECT * FROM members FOR UPDATE",
    ] {
        assert!(refused(sql).0.contains("Only a SELECT"), "{sql}: {}", refused(sql).0);
    }
    for (sql, word) in [
        ("SELECT 'é' || pg_sleep(1)", "pg_sleep"),
        ("SELECT pg_catalog.lo_create(1)", "pg_catalog"),
        ("SELECT \"Lo_Import\"('x')", "\"Lo_Import\""),
        ("SELECT set_config('a', 'b', true)", "set_config"),
        ("SELECT table_to_xml('members', true, true, '')", "table_to_xml"),
        ("SELECT string_agg('a', 'b')", "string_agg"),
        ("SELECT repeat('a', 1000000000)", "repeat"),
        ("SELECT public.lower('a')", "public"),
        ("SELECT * FROM pg_class", "pg_class"),
        ("SELECT * FROM information_schema.tables", "information_schema"),
        ("SELECT * FROM members_seq", "members_seq"),
        ("SELECT * FROM pg_ls_dir('/')", "pg_ls_dir"),
        ("SELECT current_user", "current_user"),
        ("SELECT 1::regclass", "1"),
        ("SELECT 1 WHERE 1 @> 2", "@"),
    ] {
        let (sentence, marked) = refused(sql);
        assert!(
            marked.as_deref().is_some_and(|m| word.starts_with(m) || m.starts_with(word)),
            "{sql}: {sentence} {marked:?}"
        );
    }
    for sql in [
        "WITH RECURSIVE x AS (SELECT 1 UNION ALL SELECT * FROM x) SELECT * FROM x",
        "SELECT (ROW(1, 2)).f1",
        "SELECT ARRAY[1, 2]",
        "SELECT * FROM members NATURAL JOIN members b",
        "SELECT 'a' ~ '(x{255}){255}'",
        "SELECT lpad('a', 1000000000)",
        "SELECT replace(\"Öffnung\", 'a', \"Öffnung\") FROM members",
        "SELECT $1",
        "SELECT count(id, DISTINCT fee) FROM members",
        "TABLE members",
        "SELECT 'a' COLLATE \"de-x-icu\"",
    ] {
        assert!(rewritten(sql, &Members).is_err(), "{sql}");
    }
    let (_, marked) = refused("SELECT id\nFROM members\nWHERE id = = 3");
    assert_eq!(marked.as_deref(), Some("="));
    let deep = format!("SELECT {}1{}", "(".repeat(500), ")".repeat(500));
    assert!(refused(&deep).0.contains("cannot be read"));
    assert!(refused("").0.contains("no question"));
    assert!(refused("SELECT 'a\0b'").0.contains("no text holds"));
    let many = vec!["SELECT DISTINCT 1"; 45].join(" UNION ");
    assert!(refused(&many).0.contains("places"), "{}", refused(&many).0);
}

#[test]
fn a_long_chain_of_operators_is_no_depth() {
    let long = format!("SELECT 1 FROM members WHERE {}", vec!["id = 1"; 700].join(" OR "));
    assert!(asked(&long).sql().matches(" OR ").count() == 699);
    let sums = format!("SELECT {}", vec!["1"; 3_000].join("+"));
    assert_eq!(asked(&sums).sql().matches(" + ").count(), 2_999);
}

#[test]
fn expressions_that_multiply_are_refused() {
    let doubled = |times: usize| {
        let steps = (1..times).map(|n| format!(", d{n} AS (SELECT x + x AS x FROM d{})", n - 1));
        format!("WITH d0 AS (SELECT fee AS x FROM members){} SELECT x FROM d{}", steps.collect::<String>(), times - 1)
    };
    assert!(rewritten(&doubled(8), &Members).is_ok());
    assert!(refused(&doubled(25)).0.contains("again and again"));
    let nested = (0..25).fold("members".to_owned(), |inner, n| {
        format!("(SELECT fee + fee AS fee FROM {inner} {}) AS t{n}", if n == 0 { "AS m" } else { "" })
    });
    assert!(refused(&format!("SELECT fee FROM {nested}")).0.contains("again and again"));
    assert!(rewritten("SELECT count(*) FROM members GROUP BY CUBE (id, fee), ROLLUP (count)", &Members).is_ok());
    let cubes = "SELECT count(*) FROM members GROUP BY CUBE (id, fee, \"Öffnung\"), CUBE (id, fee)";
    assert!(refused(cubes).0.contains("groups in 32 ways"));
}

#[test]
fn texts_that_grow_are_limited() {
    let sql = asked("SELECT \"Öffnung\" || 'x' || \"Öffnung\", replace(\"Öffnung\", 'a', 'bbbb') FROM members");
    assert_eq!(sql.sql().matches("1000004, false").count(), 3, "{}", sql.sql());
    assert!(sql.sql().contains("250004, false"), "{}", sql.sql());
}
