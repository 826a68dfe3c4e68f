//! What is told of a table beside its columns: odd rows, what columns mean, and the shared folder.

use crate::support::{Browser, EMAIL, Http, Server, plain};
use pronoia_core::Column;
use pronoia_store::records::Sort;
use pronoia_store::{Store, record_table};

fn fees(extra: &str) -> Vec<u8> {
    let rows: String = (0..400).map(|i| format!("F{i:04},{},{}\n", 100 + i % 40, ["web", "shop"][i % 2])).collect();
    format!("id,fee,channel\n{rows}{extra}").into_bytes()
}

#[tokio::test(flavor = "multi_thread")]
async fn odd_rows_are_shown_and_meanings_stay_with_every_version() {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let store = server.store().await;
    for (upload, extra) in [(1, "F0003,103,shop\nF9999,99000,web\n"), (2, "")] {
        http.follow(&http.upload(&http.csrf(), "fees.csv", &fees(extra)).location).await;
        http.follow(&http.submit(&format!("/uploads/{upload}/accept"), &[]).location).await;
        if upload == 1 {
            let first = store.tables(1).await.expect("tables")[0].id;
            let odd = plain(&http.get(&format!("/tables/{first}?view=unlike")).text);
            assert!(odd.contains("1 row is a duplicate of an earlier row in every column."), "{odd}");
            assert!(odd.contains("402") && odd.contains("fee 99 000 (half of all:"), "{odd}");
            let write = |column: &str, words: &str| {
                http.submit(&format!("/tables/{first}/meaning"), &[("column", column), ("words", words)]).status
            };
            assert_eq!(write("fee", "euros a year, <gross>"), 303);
            assert_eq!(write("rent", "nothing"), 404);
            assert_eq!(write("fee", &"x".repeat(501)), 422);
        }
    }
    let second = store.tables(1).await.expect("tables")[0].id;
    let page = http.get(&format!("/tables/{second}")).text;
    assert!(page.contains("euros a year, &#60;gross&#62;"), "{page}");
    let odd = plain(&http.get(&format!("/tables/{second}?view=unlike")).text);
    assert!(odd.contains("No row duplicates another") && odd.contains("No unusual rows"), "{odd}");

    let b = Browser::open().await;
    b.sign_in(&server).await;
    b.go(&format!("{}/tables/{second}?column=channel#open", server.url)).await;
    b.fill(".meaning-of [name=words]", "how the booking came in").await;
    b.click(".meaning-of button").await;
    b.see_element("#open").await;
    b.is_accessible("an unfolded column").await;
    b.go(&format!("{}/tables/{second}", server.url)).await;
    b.see(".means", "euros a year").await;
    b.close().await;
    http.submit(&format!("/tables/{second}/meaning"), &[("column", "fee"), ("words", " ")]);
    assert!(!http.get(&format!("/tables/{second}")).text.contains("euros a year"), "taken out again");
}

#[tokio::test(flavor = "multi_thread")]
async fn files_of_the_shared_folder_are_fetched_and_nothing_outside_it() {
    let shared = tempfile::tempdir().expect("a folder");
    std::fs::write(shared.path().join("fees 2026.csv"), fees("")).expect("a file");
    std::fs::write(shared.path().join(".hidden"), "x").expect("a file");
    std::os::unix::fs::symlink("/etc/passwd", shared.path().join("passwd")).expect("a link");
    let server = Server::start_with(&["--folder", &shared.path().to_string_lossy()]).await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let home = || plain(&http.get("/").text);
    assert!(home().contains("fees 2026.csv") && home().contains("not fetched yet"), "{}", home());
    assert!(!home().contains("passwd") && !home().contains(".hidden"));
    for outside in ["passwd", "../../etc/passwd", "/etc/passwd", ".hidden", "gone.csv"] {
        let refused = http.submit("/folder", &[("name", outside)]);
        assert!(refused.status == 422 && plain(&refused.text).contains("no file"), "{outside}: {}", refused.status);
    }
    let fetched = http.submit("/folder", &[("name", "fees 2026.csv")]);
    assert_eq!(fetched.status, 303);
    http.follow(&fetched.location).await;
    http.follow(&http.submit("/uploads/1/accept", &[]).location).await;
    let store = server.store().await;
    let tables = store.tables(1).await.expect("tables");
    assert_eq!((tables[0].name.as_str(), tables[0].rows), ("fees 2026", 400));
    assert!(home().contains("<td>fetched</td>"), "{}", home());
    // The file stays where it lay; once it is changed, that is said.
    let later = std::time::SystemTime::now() + std::time::Duration::from_secs(60);
    let file = std::fs::File::options().write(true).open(shared.path().join("fees 2026.csv")).expect("still there");
    file.set_modified(later).expect("a later moment");
    assert!(home().contains("changed since it was fetched"));
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_of_a_sorted_table_follow_each_other_whole() {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    // Ties and gaps in every column, so that only the order of the rows tells them apart.
    let mut csv = String::from("name,fee,joined\n");
    for i in 0..123 {
        let gap = |value: String, every: usize| if i % every == 3 { String::new() } else { value };
        let (name, fee) = (gap(format!("n{}", i * 7 % 11), 8), gap((i * 5 % 9).to_string(), 6));
        csv += &format!("{name},{fee},{}\n", gap(format!("2026-0{}-11", 1 + i % 4), 10));
    }
    let (store, table) = brought(&server, &http, &csv).await;
    let rows = store.columns(&table, None).await.expect("rows");
    for column in rows.columns() {
        for descending in [false, true] {
            let expected = in_order(column, descending);
            let sort = Sort { column: column.name.clone(), descending };
            let mut found = Vec::new();
            for page in 0..14 {
                let page = store.page(&table, Some(&sort), page * 10, 10).await.expect("a page");
                found.extend(page.rows.into_iter().map(|(number, _)| number as usize - 1));
            }
            assert_eq!(found, expected, "{} {descending}", column.name);
        }
    }
}

/// The table that a file becomes.
async fn brought(server: &Server, http: &Http, csv: &str) -> (Store, record_table::Model) {
    http.follow(&http.upload(&http.csrf(), "sorted.csv", csv.as_bytes()).location).await;
    http.follow(&http.submit("/uploads/1/accept", &[]).location).await;
    let store = server.store().await;
    let table = store.tables(1).await.expect("tables").remove(0);
    (store, table)
}

/// Positions of all rows, gaps last, ties in the order of the rows.
fn in_order(column: &Column, descending: bool) -> Vec<usize> {
    let mut rows: Vec<usize> = (0..column.len()).collect();
    let value = |row: usize| (column.number(row), column.text(row));
    rows.sort_by(|&a, &b| {
        let (x, y) = (value(a), value(b));
        let by_value = match (x.0, y.0) {
            (Some(p), Some(q)) => p.total_cmp(&q),
            _ => x.1.cmp(&y.1),
        };
        let gaps_last = x.1.is_none().cmp(&y.1.is_none());
        let by_value = if x.1.is_some() && y.1.is_some() && descending { by_value.reverse() } else { by_value };
        gaps_last.then(by_value).then(a.cmp(&b))
    });
    rows
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_in_the_middle_of_many_rows_are_those_of_the_whole_order() {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let rows: usize = 30_000;
    let mut csv = String::from("name,fee,joined,climbing\n");
    for i in 0..rows {
        let gap = |value: String, every: usize| if i % every == 3 { String::new() } else { value };
        let (name, fee) = (gap(format!("it's {}", i * 7_919 % 613), 3), gap((i * 5_701 % 9_973).to_string(), 50));
        let joined = gap(format!("20{:02}-0{}-11", i * 31 % 26, 1 + i % 9), 10);
        csv += &format!("{name},{fee},{joined},{}\n", i / 4);
    }
    let (store, table) = brought(&server, &http, &csv).await;
    let records = store.columns(&table, None).await.expect("rows");
    assert_eq!(records.rows(), rows);
    for column in records.columns() {
        for descending in [false, true] {
            let expected = in_order(column, descending);
            let sort = Sort { column: column.name.clone(), descending };
            for offset in [0, 2_990, 6_000, 13_000, 14_990, 15_010, 19_990, 20_000, 24_500, 28_000, rows - 7] {
                let page = store.page(&table, Some(&sort), offset as u64, 40).await.expect("a page");
                let found: Vec<usize> = page.rows.iter().map(|(number, _)| *number as usize - 1).collect();
                let end = rows.min(offset + 40);
                assert_eq!(found, expected[offset..end], "{} {descending} from {offset}", column.name);
            }
        }
    }
}
