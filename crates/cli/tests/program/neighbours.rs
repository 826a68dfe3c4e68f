//! Two workspaces with one of everything each: nobody of one reaches what is in the other, wherever its number is put.

use std::collections::BTreeSet;

use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, outcome_csv, renewals_csv};
use pronoia_web::{Right, doors};

use crate::addresses::fields;
use crate::support::study::Study;
use crate::support::{Http, PASSWORD, filled, until};

/// What a neighbour has: somebody signed in, a study, and numbers of what is in it.
struct Neighbour {
    http: Http,
    study: String,
    table: String,
    list: String,
    release: String,
}

/// Gives another workspace a study with a model, a policy, a scored list and a release.
async fn neighbour(study: &Study) -> Neighbour {
    let (server, store) = (&study.server, &study.store);
    store.create_account("other@example.org", PASSWORD, "Other workspace", false).await.expect("made");
    let http = Http::signed_in(server, "other@example.org");
    let newest = async |what: &str| server.answer(&format!("SELECT max(id)::text FROM {what}")).await;
    http.follow(
        &http.upload(&http.csrf(), "theirs.csv", &outcome_csv(&members(1_200, SEED + 3, FIRST_MEMBER))).location,
    )
    .await;
    http.follow(&http.submit(&format!("/uploads/{}/accept", newest("upload").await), &[]).location).await;
    let table = newest("record_table").await;
    let begun = [("table", table.as_str()), ("title", "Theirs?"), ("question", "churn")];
    assert_eq!(http.submit("/studies", &begun).status, 303);
    let id = newest("study").await;
    let of = |page: &str| format!("/studies/{id}/{page}");
    for (page, fields) in [
        ("prepare/outcome", &[("column", "cancelled"), ("event", "yes")][..]),
        ("prepare/leave-out", &[]),
        ("train", &[("family", "scorecard")]),
    ] {
        assert_eq!(http.submit(&of(page), fields).status, 303, "{page}");
    }
    until("their model is fitted", || async {
        let fitted = format!("SELECT count(*)::text FROM model WHERE study_id = {id} AND state = 'fitted'");
        (server.answer(&fitted).await == "1").then_some(())
    })
    .await;
    assert_eq!(http.submit(&of("decide"), &[("line", "0.2")]).status, 303);
    let fresh = renewals_csv(&members(200, SEED + 4, FIRST_RENEWAL));
    http.follow(&http.upload_list(id.parse().expect("a number"), "renewals.csv", &fresh).location).await;
    let list = newest("list").await;
    http.follow(&http.submit(&of(&format!("lists/{list}/score")), &[]).location).await;
    assert_eq!(http.submit(&of("live"), &[("name", "theirs")]).status, 303);
    Neighbour { http, study: id.clone(), table, list, release: newest("release").await }
}

/// A study that has, besides, a campaign, keys, a link to its statement, a remark with a file, a search, a source and an
/// invitation.
async fn with_everything() -> Study {
    let study = Study::furnished().await;
    let of = |page: &str| format!("/studies/{}/{page}", study.id);
    let campaign = [("name", "Autumn"), ("control", "5"), ("acts", "letter"), ("seed", "7")];
    study.http.follow(&study.http.submit(&of("lists/1/campaign"), &campaign).location).await;
    for (page, fields) in [
        (of("live/1/keys"), &[("name", "billing"), ("per_minute", "100")][..]),
        (of("statement/links"), &[("name", "the auditor"), ("days", "90")]),
        ("/programs".into(), &[("name", "nightly")]),
        ("/people".into(), &[("name", "Mara"), ("role", "analyst")]),
    ] {
        assert_eq!(study.http.submit(&page, fields).status, 200, "{page}");
    }
    let remarked = study.http.remark(&of("ledger/1/remark"), "Asked the branch", Some(("note.txt", b"a note")));
    assert_eq!(remarked.status, 303);
    let search = [("families", "bayes"), ("candidates", "1"), ("minutes", "1")];
    assert_eq!(study.http.submit(&of("train/search"), &search).status, 303);
    let source = "INSERT INTO source (workspace_id, name, host, port, database_name, account, encryption, sealed) \
        VALUES (1, 'Warehouse', '127.0.0.1', 5, 'w', 'reader', 'offered', '\\x00')";
    study.server.run_sql(source).await;
    study.idle().await;
    study
}

/// A digest of all that the first workspace has; of what lies in tables of everybody's, the rows of both.
pub(super) async fn digest(study: &Study) -> String {
    let tables = study
        .server
        .answer(
            "SELECT string_agg(format('%I.%I', table_schema, table_name), ' ' ORDER BY table_schema, table_name) \
             FROM information_schema.tables WHERE table_type = 'BASE TABLE' AND (table_schema IN ('workspace_1', 'published_1') \
             OR table_schema = 'public' AND table_name NOT IN ('session', 'sign_in_attempt', 'server_lock', 'release_use'))",
        )
        .await;
    let of = |table: &str| {
        format!(
            "SELECT '{table} ' || coalesce(md5(string_agg(t::text, E'\\n' ORDER BY t::text)), '') AS digest FROM {table} t"
        )
    };
    let all: Vec<String> = tables.split(' ').map(of).collect();
    let sql = format!("SELECT string_agg(digest, E'\\n' ORDER BY digest) FROM ({}) AS d", all.join(" UNION ALL "));
    study.server.answer(&sql).await
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_reaches_what_a_neighbour_has_wherever_its_number_is_put() {
    let study = with_everything().await;
    let theirs = neighbour(&study).await;
    // Everything that addresses name is there, with the numbers that they are filled with.
    for what in [
        "study",
        "record_table",
        "upload",
        "list",
        "campaign",
        "model",
        "release",
        "release_key",
        "share",
        "source",
        "job",
        "ledger_entry",
        "ledger_remark",
        "search",
        "program_key",
        "invitation",
    ] {
        let there = study.server.answer(&format!("SELECT count(*)::text FROM {what} WHERE id = 1")).await;
        assert_eq!(there, "1", "{what}");
    }
    // Fields of every form, so that a form is read and what it names is looked up.
    let names: BTreeSet<String> = fields(&study.http).0.into_iter().collect();
    let csrf = theirs.http.csrf();
    let mut sent: Vec<(&str, &str)> = names.iter().map(|name| (name.as_str(), "1")).collect();
    sent.push(("csrf", &csrf));
    let before = digest(&study).await;
    let (mut mixed, mut absent) = (0, 0);
    let of_workspace = doors().filter(|door| {
        door.path.contains('{')
            && !matches!(door.right, Right::Anybody | Right::Program)
            && !door.path.starts_with("/account")
            && door.path != "/families/{family}"
    });
    for door in of_workspace {
        // All of it ours; and what is inside of ours put below what is the neighbour's own.
        let all = filled(door);
        let mut paths = vec![all.clone()];
        for (parent, own) in [
            ("/studies/{id}/lists/{list}/beside/", format!("/studies/{}/lists/{}/beside/", theirs.study, theirs.list)),
            ("/studies/{id}/live/{release}/keys/", format!("/studies/{}/live/{}/keys/", theirs.study, theirs.release)),
            ("/studies/{id}/", format!("/studies/{}/", theirs.study)),
        ] {
            let Some(inside) = door.path.strip_prefix(parent) else { continue };
            let names_a_thing = inside.split(['{', '}']).skip(1).step_by(2).any(|name| name != "form");
            if names_a_thing {
                let depth = parent.matches('/').count();
                let ours = all.splitn(depth + 1, '/').last().expect("what is inside");
                paths.push(format!("{own}{ours}"));
                mixed += 1;
            }
        }
        for path in paths {
            let answer = match door.method {
                "get" => theirs.http.get(&path),
                _ => theirs.http.post(&path, &sent),
            };
            assert!((400..500).contains(&answer.status), "{} {path}: {} {}", door.method, answer.status, answer.text);
            absent += u32::from(answer.status == 404);
        }
    }
    assert!(mixed > 20 && absent > 100, "{mixed} mixed, {absent} not there");

    // Numbers of ours in forms of theirs.
    let of = |page: &str| format!("/studies/{}/{page}", theirs.study);
    for (path, named) in [
        ("/studies".to_owned(), &[("table", "1"), ("title", "x"), ("question", "churn")][..]),
        (of("lists"), &[("table", "1")]),
        (of("decide/why"), &[("model", "1")]),
        (of("compare/closer"), &[("model", "1")]),
        (of("train/again"), &[("model", "1")]),
        (of("train/retire"), &[("model", "1")]),
        (of("train/prove"), &[("model", "1")]),
        (of("train/blend"), &[("model", "1"), ("models", "1")]),
        (of("records/version"), &[("table", "1")]),
        (of("take-back"), &[("entry", "1"), ("back", "prepare")]),
        (of(&format!("live/{}/happened", theirs.release)), &[("table", "1")]),
        (of(&format!("live/{}/version", theirs.release)), &[("version", "1")]),
        (of(&format!("live/{}/challenger", theirs.release)), &[("model", "1"), ("share", "20")]),
        (format!("/tables/{}/append", theirs.table), &[("with", "1"), ("name", "x")]),
        (
            format!("/tables/{}/join", theirs.table),
            &[
                ("with", "1"),
                ("name", "x"),
                ("first_key", "member_id"),
                ("second_key", "member_id"),
                ("take", "columns"),
            ],
        ),
    ] {
        let answer = theirs.http.submit(&path, named);
        assert!((400..500).contains(&answer.status), "{path}: {} {}", answer.status, answer.text);
    }
    assert_eq!(digest(&study).await, before, "nothing was changed by any of it");
    // A model that is not there is passed over for one that is.
    assert_eq!(theirs.http.submit(&of("decide"), &[("model", "1"), ("line", "0.3")]).status, 303);
    let decided = format!(
        "SELECT (state -> 'policy' ->> 'model_id') || ' ' || (SELECT max(id) FROM model) FROM study WHERE id = {}",
        theirs.study
    );
    let decided = study.server.answer(&decided).await;
    assert_eq!(decided.split(' ').next(), decided.split(' ').nth(1), "by a model of their own");
}
