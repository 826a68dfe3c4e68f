//! From a workbook to a prepared column in a real browser: what goes with the
//! outcome, a region of two columns made a column, an expression with a mistake.

use crate::support::{Browser, EMAIL, Http, Server, plain, until};
use pronoia_core::number::count;
use pronoia_demo::{FIRST_MEMBER, SEED, members};

/// A study of made-up members with its outcome chosen and its drivers found.
async fn begun(server: &Server) -> (Http, i64) {
    server.make_account();
    let http = Http::signed_in(server, EMAIL);
    let people = members(6_000, SEED, FIRST_MEMBER);
    let sent = http.upload(&http.csrf(), "members.csv", &pronoia_demo::outcome_csv(&people));
    http.follow(&sent.location).await;
    http.follow(&http.submit("/uploads/1/accept", &[]).location).await;
    let store = server.store().await;
    let table = store.tables(1).await.expect("tables")[0].id.to_string();
    http.submit("/studies", &[("table", &table), ("title", "Who will cancel?"), ("question", "churn")]);
    let id = store.studies(1).await.expect("studies")[0].id;
    let outcome = [("column", "cancelled"), ("event", "yes")];
    assert_eq!(http.submit(&format!("/studies/{id}/prepare/outcome"), &outcome).status, 303);
    until("the drivers are found", || async { store.finding(id).await.ok()? }).await;
    (http, id)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_region_becomes_a_column_and_an_expression_is_mended() {
    let server = Server::start().await;
    let (http, id) = begun(&server).await;
    let store = server.store().await;
    assert_eq!(http.submit(&format!("/studies/{id}/train"), &[("family", "logistic")]).status, 303);
    until("a model is fitted", || async {
        store.candidates(id, &[]).await.ok()?.into_iter().find(|m| m.state == "fitted")
    })
    .await;
    let study = format!("{}/studies/{id}", server.url);
    let browser = Browser::open().await;
    browser.sign_in(&server).await;

    browser.go(&format!("{study}/drivers")).await;
    browser.see("#sheet", "months_since_visit").await;
    browser.is_accessible("the rate ladders").await;
    for page in ["segments?segment=0", "totals"] {
        browser.go(&format!("{study}/drivers/{page}")).await;
        browser.see_element(".sheet table").await;
        browser.is_accessible(page).await;
    }

    // Two cells of the map of species and tier become a column.
    browser.go(&format!("{study}/drivers/together?down=species&across=plan_tier")).await;
    let cells =
        "return [...document.querySelectorAll('.pair-map [type=checkbox]')].map(c => c.getAttribute('aria-label'))";
    let cells = browser.script(cells).await;
    let cell = |words: &str| {
        let cells = cells.as_array().expect("cells");
        cells.iter().position(|c| c.as_str().is_some_and(|c| c.contains(words))).expect(words)
    };
    for words in ["species: cat, plan_tier: Basic", "species: dog, plan_tier: Complete"] {
        browser
            .script(&format!("document.querySelectorAll('.pair-map [type=checkbox]')[{}].click()", cell(words)))
            .await;
    }
    browser.is_accessible("the map of two columns").await;
    browser.fill(".region [name=name]", "risky plan").await;
    browser.click(".region .button").await;
    let region = "risky plan = species = 'cat' AND plan_tier = 'Basic' OR species = 'dog' AND plan_tier = 'Complete'";
    browser.see(".steps", region).await;
    browser.see(".entries", "validation rows, which it was not derived from").await;

    // An expression with a mistake, told while it is typed, and mended.
    browser.go(&format!("{study}/prepare/steps?add=derive")).await;
    browser.fill("#expression", "annual_fee / petz").await;
    assert_eq!(browser.text(".tried mark").await, "petz");
    browser.see(".tried [role=alert]", "Perhaps pets?").await;
    browser.is_accessible("a step being added").await;
    browser.fill(".add-step [name=name]", "fee per pet").await;
    browser.click(".add-step .button").await;
    browser.see("body", "no column “petz”").await;
    browser.client.back().await.expect("back");
    browser.fill("#expression", "annual_fee / pets").await;
    browser.see(".tried", "a number").await;
    browser.fill(".add-step [name=name]", "fee per pet").await;
    browser.click(".add-step .button").await;
    browser.see(".steps", "fee per pet = annual_fee / pets").await;
    browser.is_accessible("the steps").await;

    // Both columns go in, and what was fitted before is stale.
    browser.go(&format!("{study}/prepare")).await;
    browser.see("#sheet", "fee per pet").await;
    browser.see(".route [data-stop='4']", "stale").await;

    // A role is changed, and taken back.
    browser.go(&format!("{study}/prepare?column=clinic#open")).await;
    browser.script("document.querySelector('.choices [name=role]').value = 'excluded'").await;
    browser.click(".choices button").await;
    browser.see(".entries li", "clinic: excluded").await;
    browser.see("tr.open .role", "excluded").await;
    browser.press("u").await;
    browser.see(".entries .taken-back", "clinic: excluded").await;
    browser.go(&format!("{study}/prepare?column=clinic#open")).await;
    let role = browser.script("return document.querySelector('.choices [name=role]').value").await;
    assert_eq!(role, "predictor");
    browser.close().await;
    let prepare = plain(&http.get(&format!("/studies/{id}/prepare")).text);
    assert!(prepare.contains("risky plan"), "{prepare}");
}

#[tokio::test(flavor = "multi_thread")]
async fn steps_are_switched_moved_taken_out_and_fitted_with() {
    let server = Server::start().await;
    let (http, id) = begun(&server).await;
    let store = server.store().await;
    let steps = format!("/studies/{id}/prepare/steps");
    let add = |fields: &[(&str, &str)]| http.submit(&steps, fields);
    let change = |at: &str, what: &str| http.submit(&format!("{steps}/change"), &[("at", at), ("what", what)]);
    let derive = [("kind", "derive"), ("name", "pace"), ("expression", "declined_claims / tenure_months")];
    assert_eq!(add(&derive).status, 303);
    assert_eq!(add(&[("kind", "cap"), ("column", "pace"), ("amount", "2.5")]).status, 303);
    assert_eq!(add(&[("kind", "filter"), ("expression", "species <> 'rabbit'")]).status, 303);

    // What cannot be taken is refused in words, and nothing is entered.
    for (fields, says) in [
        (vec![("kind", "derive"), ("name", "pace"), ("expression", "1")], "already"),
        (vec![("kind", "derive"), ("name", "x"), ("expression", "fees * 2")], "no column “fees”"),
        (
            vec![("kind", "derive"), ("name", "x"), ("expression", "CASE WHEN cancelled = 'yes' THEN 1 END")],
            "reads the outcome",
        ),
        (vec![("kind", "cap"), ("column", "species"), ("amount", "1")], "for numbers"),
        (vec![("kind", "bands"), ("column", "pace"), ("amount", "many")], "not a number"),
        (vec![("kind", "filter"), ("expression", "pace + 1")], "true or false"),
    ] {
        let answer = add(&fields);
        assert_eq!(answer.status, 422, "{fields:?}");
        assert!(answer.text.contains(says), "{says}: {}", answer.text);
    }
    let state = || async { store.study(1, id).await.expect("the study").choices().expect("choices") };
    assert_eq!(state().await.steps.len(), 3);

    // A step that another one needs is switched off: the other says so and is not lost.
    assert_eq!(change("0", "off").status, 303);
    let page = plain(&http.get(&steps).text);
    assert!(page.contains("no column “pace” here any more"), "{page}");
    assert!(!state().await.basis().expect("a basis").predictors.contains(&"pace".to_owned()));
    assert_eq!(change("0", "on").status, 303);
    assert_eq!(change("2", "up").status, 303);
    assert_eq!(change("9", "off").status, 404);

    // A filter may read what says nothing by itself; what goes with the outcome is found all the same.
    assert_eq!(add(&[("kind", "filter"), ("expression", "currency = 'EUR'")]).status, 303);
    let looked = http.submit(&format!("/studies/{id}/drivers"), &[]);
    let drivers = plain(&http.follow(&looked.location).await.text);
    assert!(drivers.contains("training rows") && !drivers.contains("were changed since"), "{drivers}");

    assert_eq!(http.submit(&format!("/studies/{id}/train"), &[("family", "boosted")]).status, 303);
    let model = until("the model is fitted", || async {
        let models = store.candidates(id, &[]).await.ok()?;
        models.into_iter().find(|m| m.state == "fitted")
    })
    .await;
    let fitted = store.model(model.id).await.expect("the row").fitted().expect("a model");
    assert_eq!(fitted.members[0].preparation.steps.len(), 2, "the filter chose the rows; the others are replayed");
    assert!(fitted.rows < 3_400, "rabbits took no part: {}", fitted.rows);
    assert!(fitted.inputs().all(|input| input.name != "pace"), "a list need not have it");

    assert_eq!(change("0", "out").status, 303);
    assert!(state().await.columns.iter().all(|c| c.name != "pace"), "its column goes with it");
}

#[tokio::test(flavor = "multi_thread")]
async fn several_files_come_in_and_another_sheet_is_read() {
    let server = Server::start().await;
    server.make_account();
    let http = Http::signed_in(&server, EMAIL);
    let browser = Browser::open().await;
    browser.sign_in(&server).await;
    let agreements = pronoia_demo::instalments(300, SEED);
    let book = server.file("instalments.xlsx", &pronoia_demo::instalments_xlsx(&agreements).expect("a workbook"));
    let people = members(400, SEED, FIRST_MEMBER);
    let visits = pronoia_demo::visits_parquet(&pronoia_demo::visits(&people, SEED)).expect("a file");
    let visits = server.file("visits.parquet", &visits);
    let damaged = server.file("damaged.csv", &pronoia_demo::damaged_csv(&members(2_000, SEED, FIRST_MEMBER)));
    for path in [&book, &visits, &damaged] {
        browser.choose_file(".bring [type=file]", path).await;
    }
    browser.click(".bring .button").await;
    for name in ["instalments.xlsx", "visits.parquet", "damaged.csv"] {
        browser.see("#sheet", name).await;
    }
    let store = server.store().await;
    until("all three are read", || async {
        let waiting = store.waiting_uploads(1).await.ok()?;
        (waiting.len() == 3 && waiting.iter().all(|u| u.state == "ready")).then_some(())
    })
    .await;
    let uploads = store.waiting_uploads(1).await.expect("uploads");
    let id = |name: &str| uploads.iter().find(|u| u.file_name == name).expect(name).id;

    browser.go(&format!("{}/uploads/{}", server.url, id("instalments.xlsx"))).await;
    browser.see(".lead", "300 rows and 14 columns: the sheet “Agreements” of a workbook").await;
    browser.is_accessible("the preview of a workbook").await;
    browser.click("[name=sheet] option:nth-child(2)").await;
    browser.click(".inline-form .button-quiet").await;
    browser.see(".lead", "3 rows and 2 columns: the sheet “Meaning” of a workbook").await;

    browser.go(&format!("{}/uploads/{}", server.url, id("damaged.csv"))).await;
    browser.see(".misfits", "a quote opens here and never closes").await;
    let rejects = http.get(&format!("/uploads/{}/rejects.csv", id("damaged.csv"))).text;
    assert!(rejects.starts_with("line,reason,row") && rejects.lines().count() > 4, "{rejects}");
    // Brought in all the same: what fits is there, and what does not is counted.
    let scan = store.upload(1, id("damaged.csv")).await.expect("the upload").scanned().expect("stored").expect("read");
    browser.click(".heading-action .button").await;
    browser.see("h1", &format!("{} customers in damaged", plain(&count(scan.rows)))).await;
    browser.see(".lead", &format!("{} rows were rejected", plain(&count(scan.rejected)))).await;
    browser.close().await;
}
