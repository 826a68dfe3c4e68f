//! Loads the made-up company, through the same doors as everybody else's records.

use pronoia_core::decide::{ChurnAmounts, Economics, Policy};
use pronoia_core::learn::Settings;
use pronoia_core::model::Recipe;
use pronoia_core::study::{ChosenPolicy, Outcome, Question, Role};
use pronoia_demo as demo;
use pronoia_store::fits::Fit;
use pronoia_store::jobs::Work;
use pronoia_store::sources::{StandIn, StandInTable};
use pronoia_store::studies::Choice;
use pronoia_store::uploads::Arrived;
use pronoia_store::{Store, StoreError};

use crate::frame::worth_of;
use crate::{App, pages, text, work};

/// Sign-in of the demonstration; its records are made up, so that it is no secret.
const EMAIL: &str = "analyst@osiervale.example";

/// Its password.
const PASSWORD: &str = "willow-and-reed";

/// E-mail and password of the demonstration, if it was loaded here.
///
/// # Errors
/// If the database does not answer.
pub async fn account(store: &Store) -> Result<Option<(String, String)>, StoreError> {
    Ok(store.account(EMAIL).await?.map(|a| (a.email, PASSWORD.to_owned())))
}

/// Loads the demonstration if it is not there yet; gives its sign-in.
///
/// The churn study is taken through every stop up to a scored list. Being
/// broken off leaves no account, so that the next start loads it anew.
///
/// # Errors
/// A sentence if a step fails.
pub async fn load(app: &App) -> Result<(String, String), String> {
    let sentence = |e: StoreError| e.to_string();
    if let Some(account) = account(&app.store).await.map_err(sentence)? {
        return Ok(account);
    }
    let draft = format!("draft-{:08x}@osiervale.example", rand::random::<u32>());
    let workspace = app.store.create_account(&draft, PASSWORD, "Osier Vale", true).await.map_err(sentence)?;
    let account = app.store.account(&draft).await.map_err(sentence)?.ok_or("the account vanished")?.id;
    others(app, workspace, account).await?;
    let study = churn(app, workspace, account).await?;
    list(app, workspace, study).await?;
    app.store.rename_account(account, EMAIL).await.map_err(sentence)?;
    Ok((EMAIL.into(), PASSWORD.into()))
}

/// Fills a server of PostgreSQL as the company's warehouse, and enters it among
/// the databases that the demonstration reads from.
///
/// # Errors
/// A sentence if the server does not answer, or may not be reached.
pub async fn load_warehouse(app: &App, server: &str) -> Result<(), String> {
    const WAREHOUSE: StandIn<'_> =
        StandIn { name: "Osier Vale warehouse", database: "osier_vale", schema: "care", account: "reader" };
    let sentence = |e: StoreError| e.to_string();
    let account = app.store.account(EMAIL).await.map_err(sentence)?.ok_or("the demonstration is not loaded")?;
    let workspace = app.store.workspace_of(account.id).await.map_err(sentence)?;
    let members = demo::members(demo::MEMBERS, demo::SEED, demo::FIRST_MEMBER);
    let tables = demo::warehouse(&members, &demo::visits(&members, demo::SEED + 2));
    let tables =
        tables.each_ref().map(|t| StandInTable { name: t.name, comment: t.comment, columns: t.columns, csv: &t.csv });
    let details = WAREHOUSE.fill(server, &tables).await.map_err(sentence)?;
    // Its port may be another than last time.
    for old in app.store.sources(workspace).await.map_err(sentence)? {
        if old.name == WAREHOUSE.name {
            app.store.remove_source(workspace, old.id).await.map_err(sentence)?;
        }
    }
    app.store.add_source(workspace, &details, &app.connector).await.map_err(sentence)?;
    Ok(())
}

/// The records beside those of the members, and the two questions asked of them.
async fn others(app: &App, workspace: i64, account: i64) -> Result<(), String> {
    let members = demo::members(demo::MEMBERS, demo::SEED, demo::FIRST_MEMBER);
    let visits = demo::visits_parquet(&demo::visits(&members, demo::SEED + 2)).map_err(|e| e.to_string())?;
    table(app, workspace, "visits.parquet", &visits).await?;
    let agreements = demo::instalments(demo::AGREEMENTS, demo::SEED + 3);
    let workbook = demo::instalments_xlsx(&agreements).map_err(|e| e.to_string())?;
    let instalments = table(app, workspace, "instalments.xlsx", &workbook).await?;
    let contacts = demo::dental_offer_jsonl(&demo::dental_offer(demo::CONTACTS, demo::SEED + 4));
    let dental = table(app, workspace, "dental_offer.jsonl", &contacts).await?;
    let credit = (instalments, "Who will fall behind on an instalment agreement?", Question::Credit);
    let response = (dental, "Who will answer the offer of a dental check?", Question::Response);
    for (question, event) in [(credit, ("outcome", "fell behind")), (response, ("answered", "true"))] {
        begin(app, workspace, account, question, event).await?;
    }
    work::drain(app).await
}

/// Sends a file in and accepts it as it was understood; the table.
async fn table(app: &App, workspace: i64, name: &str, bytes: &[u8]) -> Result<i64, String> {
    let sentence = |e: StoreError| e.to_string();
    let upload = bring(app, workspace, None, name, bytes).await?;
    let title = format!("Bringing in {name}");
    app.store.enqueue(workspace, None, &title, &Work::Import { upload }).await.map_err(sentence)?;
    work::drain(app).await?;
    app.store.upload(workspace, upload).await.map_err(sentence)?.table_id.ok_or(format!("{name} was not brought in"))
}

/// Asks a question of a table, and says what the event is; the study.
async fn begin(
    app: &App,
    workspace: i64,
    account: i64,
    (table, title, question): (i64, &str, Question),
    (column, event): (&str, &str),
) -> Result<i64, String> {
    let sentence = |e: StoreError| e.to_string();
    let study = app.store.create_study(workspace, table, title, question).await.map_err(sentence)?.id;
    let record = app.store.table(workspace, table).await.map_err(sentence)?;
    let begun = format!("on {}, {} rows", record.name, text::count_of(record.rows));
    app.store.note(study, Some(account), "Study begun", &begun).await.map_err(sentence)?;
    let outcome = Outcome::is(column, event);
    pages::outcome::enter_outcome(app, workspace, account, study, outcome).await.map_err(|e| e.to_string())?;
    Ok(study)
}

/// Members, outcome, columns, five candidates, a policy.
async fn churn(app: &App, workspace: i64, account: i64) -> Result<i64, String> {
    let sentence = |e: StoreError| e.to_string();
    let members = demo::members(demo::MEMBERS, demo::SEED, demo::FIRST_MEMBER);
    let table = table(app, workspace, "members.csv", &demo::outcome_csv(&members)).await?;
    let title = "Who will cancel at renewal, and whom is it worth ringing?";
    let study = begin(app, workspace, account, (table, title, Question::Churn), ("cancelled", "yes")).await?;
    let names = pages::prepare::enter_left_out(app, workspace, account, study).await.map_err(|e| e.to_string())?;
    if names.is_empty() {
        return Err("nothing was proposed to be left out".into());
    }
    for (name, role, figure) in [
        ("days_since_last_login", Role::LeftOut, "counted to the day of the extract, not to the decision"),
        ("sample_weight", Role::CaseWeight, "how many members each row of the extract stands for"),
    ] {
        let study = app.store.study(workspace, study).await.map_err(sentence)?;
        let mut state = study.choices().map_err(sentence)?;
        state.columns.iter_mut().filter(|c| c.name == name).for_each(|c| c.role = role);
        let choice = Choice { account_id: account, chosen: format!("{name}: {}", role.word()), figure: figure.into() };
        pages::choose(app, &study, &state, &choice).await.map_err(|e| e.to_string())?;
    }
    let study = app.store.study(workspace, study).await.map_err(sentence)?;
    let state = study.choices().map_err(sentence)?;
    let basis = state.basis().ok_or("the outcome was not kept")?;
    for family in ["logistic", "scorecard", "forest", "boosted", "network"] {
        let recipe = Recipe::from(Settings::of_family(family).ok_or("no such family")?);
        let fit = Fit { name: recipe.name(), recipe: &recipe, basis: &basis, seed: state.split.seed };
        app.store.queue_fit(&study, &fit, None).await.map_err(sentence)?;
    }
    work::drain(app).await?;
    keep_policy(app, workspace, account, study.id).await?;
    Ok(study.id)
}

/// The best point of the candidate with the least log loss, for the renewals to come.
async fn keep_policy(app: &App, workspace: i64, account: i64, study: i64) -> Result<(), String> {
    let sentence = |e: StoreError| e.to_string();
    let mut best: Option<(f64, pronoia_store::model::Model)> = None;
    for model in app.store.models(study).await.map_err(sentence)? {
        let loss = model.judged().map_err(sentence)?.ok_or("a model was not judged")?.log_loss;
        if best.as_ref().is_none_or(|b| loss < b.0) {
            best = Some((loss, model));
        }
    }
    let (_, model) = best.ok_or("nothing was fitted")?;
    let ranking = model.ranked().map_err(sentence)?.ok_or("a model was not judged")?;
    let amounts =
        ChurnAmounts { value_kept: 146.0, save_rate: 0.3, offer_cost: 24.0, stayers_take: 0.35, contact_cost: 2.4 };
    let economics = Economics::Churn(amounts);
    let population = demo::RENEWALS as f64;
    let curve = ranking.profit(&economics.prices(), population);
    let cut_off = curve[pronoia_core::decide::Best::of(&curve).at].cut_off;
    let chosen =
        ChosenPolicy { model_id: model.id, policy: Policy { economics, cut_off }, population: Some(population) };
    let worth = worth_of(&chosen, &ranking);
    let row = app.store.study(workspace, study).await.map_err(sentence)?;
    let mut state = row.choices().map_err(sentence)?;
    state.policy = Some(chosen);
    let choice = Choice {
        account_id: account,
        chosen: format!("Line at P ≥ {}", text::fixed(cut_off, 3)),
        figure: format!("{} {}; {}", worth.amount, worth.whom, model.name),
    };
    app.store.choose(&row, &state, &choice).await.map_err(sentence)
}

/// The list of renewals, scored.
async fn list(app: &App, workspace: i64, study: i64) -> Result<(), String> {
    let sentence = |e: StoreError| e.to_string();
    let renewals = demo::members(demo::RENEWALS, demo::SEED + 1, demo::FIRST_RENEWAL);
    bring(app, workspace, Some(study), "renewals_next_quarter.csv", &demo::renewals_csv(&renewals)).await?;
    let list = app.store.lists(study).await.map_err(sentence)?.first().ok_or("the list was not matched")?.id;
    app.store.set_list_state(list, "scoring").await.map_err(sentence)?;
    app.store.enqueue(workspace, Some(study), "Scoring the list", &Work::Score { list }).await.map_err(sentence)?;
    work::drain(app).await
}

/// Sends a file in and reads it.
async fn bring(app: &App, workspace: i64, study: Option<i64>, name: &str, bytes: &[u8]) -> Result<i64, String> {
    std::fs::create_dir_all(&app.config.uploads).map_err(|e| e.to_string())?;
    let path = app.config.uploads.join(format!("demonstration-{name}"));
    std::fs::write(&path, bytes).map_err(|e| e.to_string())?;
    let arrived = Arrived { file_name: name, origin: None, path: &path, size: bytes.len() as u64 };
    let upload = app.store.add_upload(workspace, study, &arrived).await.map_err(|e| e.to_string())?;
    let title = format!("Reading {name}");
    app.store
        .enqueue(workspace, study, &title, &Work::Scan { upload, sheet: None })
        .await
        .map_err(|e| e.to_string())?;
    work::drain(app).await?;
    Ok(upload)
}
