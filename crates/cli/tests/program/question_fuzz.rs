//! Questions in SQL that two parsers may read differently: whatever comes out of the rewriting is made into a view by
//! an owner, and what the database then says that the view reads and calls is compared with what is allowed.

use std::collections::HashSet;
use std::io::{BufRead, BufReader, Write};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::support::{new_database, python};
use pronoia_store::queries::QueryError;
use pronoia_store::queries::rewrite::{Relation, Relations, TableLookup, allowed_functions};
use pronoia_store::queries::rewritten;
use rand::seq::IndexedRandom;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use sea_orm::{ConnectOptions, ConnectionTrait, Database, DatabaseConnection, DbBackend, Statement};

/// The tables that may be read.
struct Open;

impl Relations for Open {
    fn find(&self, name: &[String]) -> TableLookup {
        let number = match name {
            [name] if name == "members" => 1,
            [name] if name == "Visits €" => 2,
            _ => return TableLookup::Missing,
        };
        let columns = ["id", "fee", "note", "count", "on"].map(str::to_owned).to_vec();
        let (schema, name) = ("ask_1".into(), format!("table_{number}"));
        TableLookup::Found(Relation { schema, name, columns, is_renamed: true })
    }
}

/// What stands in the database besides: nobody may reach it.
const SCRATCH: &str = "CREATE SCHEMA ask_1; CREATE SCHEMA ask_2; CREATE SCHEMA secret; \
    CREATE TABLE ask_1.table_1 (c1 int, c2 float8, c3 text, c4 int, c5 date); \
    CREATE TABLE ask_1.table_2 (c1 int, c2 float8, c3 text, c4 int, c5 date); \
    CREATE TABLE ask_2.table_3 (c1 int); CREATE TABLE secret.account (id int, password text); \
    CREATE TABLE public.account (id int, password text); CREATE TABLE public.members (id int, fee float8, note text); \
    CREATE FUNCTION public.lower(text) RETURNS text LANGUAGE sql AS $$ SELECT 'stolen' $$; \
    CREATE FUNCTION secret.steal(text) RETURNS text LANGUAGE sql AS $$ SELECT password FROM secret.account LIMIT 1 $$; \
    CREATE FUNCTION secret.plus(int, int) RETURNS int LANGUAGE sql AS $$ SELECT 0 $$; \
    CREATE OPERATOR secret.+ (LEFTARG = int, RIGHTARG = int, FUNCTION = secret.plus); \
    CREATE OPERATOR public.|| (LEFTARG = int, RIGHTARG = int, FUNCTION = secret.plus)";

/// Questions that are answered.
const SEEDS: [&str; 14] = [
    "SELECT id, fee FROM members WHERE note = 'a' ORDER BY fee DESC LIMIT 3",
    "SELECT note, count(*) AS n, sum(fee) FROM members GROUP BY note HAVING count(*) > 1",
    "WITH m AS (SELECT id, fee + 1 AS f FROM members) SELECT avg(f) FROM m JOIN \"Visits €\" v USING (id)",
    "SELECT lower(m.note) || 'x' FROM members AS m, LATERAL (SELECT 1 AS one) l",
    "SELECT CASE WHEN fee > 2 THEN 'it''s' ELSE $$b$$ END FROM members",
    "SELECT E'\\x41\\'' || U&'d\\0061t' || 'c' -- end\n FROM members",
    "SELECT * FROM (SELECT id FROM members UNION ALL SELECT id FROM \"Visits €\") u(a) WHERE a IN (SELECT id FROM members)",
    "SELECT row_number() OVER (PARTITION BY note ORDER BY fee), m.\"count\" FROM members m",
    "SELECT EXTRACT(year FROM \"on\"), CAST(fee AS numeric(10,2)), id::text, DATE '2026-01-01' FROM members",
    "SELECT percentile_cont(0.5) WITHIN GROUP (ORDER BY fee) FILTER (WHERE id > 3) FROM members",
    "SELECT i FROM generate_series(1, 5) AS i /* a /* nested */ comment */",
    "SELECT coalesce(note, 'n'), nullif(id, 1), greatest(id, 2) FROM members WHERE note ~ '^a.*' AND note LIKE 'a%' ESCAPE '!'",
    "SELECT DISTINCT ON (note) note, id FROM members ORDER BY note, 2 OFFSET 1",
    "VALUES (1, 'a'), (2, 'b')",
];

/// Pieces in which parsers differ, or by which somebody would get out.
const PIECES: [&str; 62] = [
    "$€$",
    "$é1$",
    "$$",
    "$t$",
    "$T$",
    "$_$",
    "'",
    "''",
    "\\'",
    "E'",
    "e'",
    "U&'",
    "U&\"",
    "\"",
    "\"\"",
    "N'",
    "B'1'",
    "X'41'",
    "/*",
    "*/",
    "/**/",
    "--",
    "--\n",
    "-- \r",
    "\r",
    "\u{85}",
    "\u{a0}",
    "\u{2028}",
    "\u{feff}",
    ";",
    "; ROLLBACK;",
    ") TO STDOUT; BEGIN READ WRITE; SELECT lo_create(1); COMMIT; --",
    "(",
    ")",
    ",",
    "::",
    "::regclass",
    "::xml",
    "@>",
    "||",
    "->",
    "#>",
    "!~",
    "~~*",
    "OPERATOR(secret.+)",
    "UESCAPE '!'",
    "secret.steal('a')",
    "public.lower('a')",
    "m.steal",
    "m.to_json",
    "members.xmlagg",
    "pg_sleep(1)",
    "pg_catalog.set_config('a','b',true)",
    "(m).note",
    "secret.account",
    "public.members",
    "ask_2.table_3",
    "FOR UPDATE",
    "INTO x",
    "table_to_xml('secret.account', true, true, '')",
    "$1",
    "\\",
];

/// A question with pieces put in, taken out, or in the place of others.
fn damaged(rng: &mut ChaCha8Rng) -> String {
    let mut letters: Vec<char> = SEEDS.choose(rng).expect("seeds").chars().collect();
    for _ in 0..rng.random_range(1..4) {
        let at = rng.random_range(0..=letters.len());
        let piece: Vec<char> = PIECES.choose(rng).expect("pieces").chars().collect();
        match rng.random_range(0..5) {
            0 => {
                let end = (at + rng.random_range(1..6)).min(letters.len());
                letters.drain(at..end);
            }
            1 => {
                let end = (at + rng.random_range(1..10)).min(letters.len());
                letters.splice(at..end, piece);
            }
            // Around a part: what opens here closes there.
            2 => {
                let end = rng.random_range(at..=letters.len());
                letters.splice(end..end, piece.iter().copied());
                letters.splice(at..at, piece);
            }
            _ => {
                letters.splice(at..at, piece);
            }
        }
    }
    letters.into_iter().collect()
}

async fn answers(database: &DatabaseConnection, sql: &str) -> Vec<i64> {
    let rows = database.query_all_raw(Statement::from_string(DbBackend::Postgres, sql)).await.expect("an answer");
    rows.iter().map(|row| row.try_get_by_index(0).expect("a number")).collect()
}

/// The numbers that follow a word in the tree of a view.
fn numbers(tree: &str, words: &[&str]) -> HashSet<i64> {
    let mut found = HashSet::new();
    for word in words {
        for rest in tree.split(&format!(":{word} ")).skip(1) {
            if let Some(number) = rest.split([' ', ')', '}']).next().and_then(|n| n.parse().ok()) {
                found.insert(number);
            }
        }
    }
    found.remove(&0);
    found
}

/// What a text must not do, if it does: the finding.
async fn finding(database: &DatabaseConnection, sql: &str, allowed: &[HashSet<i64>; 2]) -> Option<String> {
    let [relations, functions] = allowed;
    // One statement by the extended protocol, as a question is asked.
    let create = Statement::from_sql_and_values(DbBackend::Postgres, format!("CREATE VIEW public.seen AS {sql}"), []);
    match database.execute_raw(create).await {
        Ok(_) => {}
        Err(e) => {
            let e = e.to_string();
            return e.contains("multiple commands").then(|| format!("more than one statement: {e}"));
        }
    }
    let tree = "SELECT ev_action::text FROM pg_rewrite WHERE ev_class = 'public.seen'::regclass";
    let row = database.query_one_raw(Statement::from_string(DbBackend::Postgres, tree)).await.expect("a tree");
    let tree: String = row.expect("a rule").try_get_by_index(0).expect("text");
    let own = answers(database, "SELECT 'public.seen'::regclass::oid::bigint").await;
    database.execute_unprepared("DROP VIEW public.seen").await.expect("dropped");
    let mut read = numbers(&tree, &["relid"]);
    own.iter().for_each(|own| {
        read.remove(own);
    });
    if let Some(other) = read.difference(relations).next() {
        return Some(format!("it reads relation {other}"));
    }
    let called = numbers(&tree, &["funcid", "opfuncid", "aggfnoid", "winfnoid"]);
    called.difference(functions).next().map(|other| format!("it calls function {other}"))
}

/// The parser of PostgreSQL by itself, where it is installed: how many statements it sees, and of which kind.
struct Parser(Child, BufReader<std::process::ChildStdout>);

impl Parser {
    fn start() -> Option<Self> {
        let python = python()?;
        let script = "import sys, json, pglast\nfor line in sys.stdin:\n    try:\n        s = pglast.parse_sql(json.loads(line))\n        print(len(s), type(s[0].stmt).__name__ if s else '', flush=True)\n    except pglast.parser.ParseError:\n        print('none', flush=True)\n";
        let mut child = Command::new(python)
            .args(["-c", script])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("python runs");
        let reads = BufReader::new(child.stdout.take().expect("its output"));
        Some(Self(child, reads))
    }

    fn sees(&mut self, sql: &str) -> String {
        let line = serde_json::to_string(sql).expect("text");
        writeln!(self.0.stdin.as_mut().expect("its input"), "{line}").expect("told");
        let mut answer = String::new();
        self.1.read_line(&mut answer).expect("an answer");
        answer.trim().to_owned()
    }
}

impl Drop for Parser {
    fn drop(&mut self) {
        self.0.kill().expect("ended");
        self.0.wait().expect("ended");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_is_let_through_reads_and_calls_only_what_is_allowed() {
    let base = std::env::var("PRONOIA_TEST_DATABASE").expect("PRONOIA_TEST_DATABASE names a server; ./test sets it");
    let mut one = ConnectOptions::new(new_database(&base).await);
    one.max_connections(1).sqlx_logging(false);
    let database = Database::connect(one).await.expect("the database");
    database.execute_unprepared(SCRATCH).await.expect("made");
    // As a question's connection is set.
    database.execute_unprepared("SET search_path = pg_catalog, pg_temp").await.expect("set");
    let relations =
        answers(&database, "SELECT oid::bigint FROM pg_class WHERE relnamespace = 'ask_1'::regnamespace").await;
    let names: Vec<String> = allowed_functions().iter().map(|name| format!("'{name}'")).collect();
    let functions = answers(
        &database,
        &format!(
            "SELECT p.oid::bigint FROM pg_proc p WHERE p.pronamespace = 'pg_catalog'::regnamespace AND (p.proname IN ({}) \
             OR p.proname IN ('varchar', 'position', 'substring', 'extract', 'timezone', 'like_escape', 'similar_to_escape') \
             OR EXISTS (SELECT FROM pg_operator o WHERE o.oprcode = p.oid AND o.oprname IN \
                ('+', '-', '*', '/', '%', '^', '||', '=', '<>', '<', '>', '<=', '>=', '~', '~*', '!~', '!~*', '~~', '!~~', '~~*', '!~~*')) \
             OR EXISTS (SELECT FROM pg_cast c WHERE c.castfunc = p.oid AND c.casttarget NOT IN ('regclass'::regtype, 'xml'::regtype)))",
            names.join(", ")
        ),
    )
    .await;
    let allowed = [relations.into_iter().collect(), functions.into_iter().collect()];
    let mut parser = Parser::start();
    // The oracle itself sees what it should see.
    for (sql, says) in [
        ("SELECT * FROM secret.account", "reads relation"),
        ("SELECT public.lower(c3) FROM ask_1.table_1", "calls function"),
        ("SELECT c1 OPERATOR(secret.+) 1 FROM ask_1.table_1", "calls function"),
        ("SELECT pg_backend_pid()", "calls function"),
        ("SELECT count(*) FROM ask_1.table_1, (SELECT t.to_json FROM ask_1.table_1 t) x", "calls function"),
        ("SELECT 1; SELECT 2", "more than one"),
    ] {
        let found = finding(&database, sql, &allowed).await;
        assert!(found.as_ref().is_some_and(|found| found.contains(says)), "{sql}: {found:?}");
    }
    for sql in SEEDS {
        let written = rewritten(sql, &Open).unwrap_or_else(|e| panic!("{sql}: {e}"));
        assert_eq!(finding(&database, written.sql(), &allowed).await, None, "{sql}");
    }
    let minutes = std::env::var("PRONOIA_TEST_FUZZ_MINUTES").ok().and_then(|m| m.parse::<f64>().ok());
    let slow = std::env::var_os("PRONOIA_TEST_SLOW").is_some();
    let time = Duration::from_secs_f64(60.0 * minutes.unwrap_or(if slow { 10.0 } else { 0.08 }));
    let begun = Instant::now();
    let (mut tried, mut through) = (0u64, 0u64);
    while begun.elapsed() < time {
        let mut rng = ChaCha8Rng::seed_from_u64(tried);
        let sql = damaged(&mut rng);
        tried += 1;
        match rewritten(&sql, &Open) {
            Ok(written) => {
                through += 1;
                let found = finding(&database, written.sql(), &allowed).await;
                assert_eq!(found, None, "seed {}: {sql}\n{}", tried - 1, written.sql());
                if let Some(parser) = &mut parser {
                    let sees = parser.sees(written.sql());
                    assert!(["1 SelectStmt", "none"].contains(&sees.as_str()), "{sees}: {sql}");
                }
            }
            Err(QueryError::Question { .. }) => {}
            Err(e) => panic!("{sql}: {e}"),
        }
    }
    println!("{tried} questions, {through} let through, no finding");
    assert!(through > tried / 50, "{through} of {tried}: hardly anything is let through, so that little is tried");
}
