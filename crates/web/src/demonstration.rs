//! Loads the made-up company, through the same doors as everybody else's records.

use pronoia_core::campaign::Arms;
use pronoia_core::learn::Settings;
use pronoia_core::model::Recipe;
use pronoia_core::prepare::StepAction;
use pronoia_core::question::Question;
use pronoia_core::score::Extras;
use pronoia_core::study::{ColumnRole, Outcome};
use pronoia_demo as demo;
use pronoia_store::fits::NewFit;
use pronoia_store::jobs::{ResultsFrom, Work};
use pronoia_store::sources::{StandIn, StandInTable};
use pronoia_store::studies::Choice;
use pronoia_store::uploads::Arrived;
use pronoia_store::{Store, StoreError};

use crate::pages::decide::policy_form::TypedFields;
use crate::pages::records::uploads;
use crate::{App, jobs, pages};
use pronoia_service::jobs::campaign::{ARM, CONTROL};
use pronoia_service::study_view::StudyView;

/// Sign-in of the demonstration; its records are made up, so that it is no secret.
const EMAIL: &str = "analyst@osiervale.example";

/// Its password.
const PASSWORD: &str = "willow-and-reed";

/// Share of those to act on who are held back in the campaign.
const CONTROL_SHARE: f64 = 0.35;

/// E-mail and password of the demonstration, if it was loaded here.
///
/// # Errors
/// If the database does not answer.
pub async fn account(store: &Store) -> Result<Option<(String, String)>, StoreError> {
    Ok(store.account(EMAIL).await?.map(|a| (a.email, PASSWORD.to_owned())))
}

/// Loads the demonstration if it is not there yet; gives its sign-in.
///
/// Churn and the dental offer are taken through every stop up to what a campaign changed, churn to a
/// release besides. Being
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
    renewals(app, workspace, account, study).await?;
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
    let contacts = demo::dental_offer_jsonl(&demo::dental_offer(demo::CONTACTS, demo::SEED + 4, demo::FIRST_CONTACT));
    let dental = table(app, workspace, "dental_offer.jsonl", &contacts).await?;
    credit(app, workspace, account, instalments).await?;
    response(app, workspace, account, dental).await
}

/// Agreements: two candidates, and a policy with two cut-offs and amounts of every agreement.
async fn credit(app: &App, workspace: i64, account: i64, table: i64) -> Result<(), String> {
    let title = "Who will fall behind on an instalment agreement?";
    let study = begin(app, workspace, account, (table, title, Question::Credit), ("outcome", "fell behind")).await?;
    pages::prepare::enter_left_out(app, workspace, account.into(), study).await.map_err(|e| e.to_string())?;
    fit(app, workspace, study, &["logistic", "boosted"]).await?;
    let amounts = TypedFields::from([
        ("margin", "0.09 * amount_financed"),
        ("years", "months / 12.0"),
        ("exposure", "0.6 * amount_financed * (1 - deposit_share)"),
        ("loss_rate", "70"),
        ("review_cost", "22"),
        ("review_finds", "50"),
        ("review_stops", "10"),
        ("currency", "EUR"),
    ]);
    policy(app, workspace, account, study, &amounts).await
}

/// Keeps a policy, and finds out what its model goes by.
async fn policy(app: &App, workspace: i64, account: i64, study: i64, amounts: &TypedFields) -> Result<(), String> {
    let sentence = |e: pronoia_service::ServiceError| e.to_string();
    pages::decide::enter_policy(app, workspace, account.into(), study, amounts).await.map_err(sentence)?;
    let view = StudyView::load(app, workspace, study).await.map_err(sentence)?;
    let (_, model) = view.policy_model().ok_or("the policy was not kept")?;
    pages::decide::importance::enter_look(app, &view, model).await.map_err(sentence)?;
    jobs::drain(app).await
}

/// The dental offer: three candidates, a policy, and a campaign with what came of it.
async fn response(app: &App, workspace: i64, account: i64, table: i64) -> Result<(), String> {
    let title = "Who will answer the offer of a dental check?";
    let study = begin(app, workspace, account, (table, title, Question::Response), ("answered", "true")).await?;
    pages::prepare::enter_left_out(app, workspace, account.into(), study).await.map_err(|e| e.to_string())?;
    fit(app, workspace, study, &["logistic", "scorecard", "boosted"]).await?;
    let customers = demo::CUSTOMERS.to_string();
    let amounts = TypedFields::from([
        ("margin", "28"),
        ("anyway", "20"),
        ("contact_cost", "1.1"),
        ("currency", "EUR"),
        ("population", &customers),
    ]);
    policy(app, workspace, account, study, &amounts).await?;
    dental_checks(app, workspace, study).await
}

/// Fits candidates of some families.
async fn fit(app: &App, workspace: i64, study: i64, families: &[&str]) -> Result<(), String> {
    let sentence = |e: StoreError| e.to_string();
    let study = app.store.study(workspace, study).await.map_err(sentence)?;
    let state = study.choices().map_err(sentence)?;
    let basis = state.basis().ok_or("the outcome was not kept")?;
    for family in families {
        let recipe = Recipe::from(Settings::of_family(family).ok_or("no such family")?);
        let fit = NewFit { name: recipe.name(), recipe: &recipe, basis: &basis, seed: state.split.seed };
        app.store.queue_fit(&study, &fit, None).await.map_err(sentence)?;
    }
    jobs::drain(app).await
}

/// Sends a file in and accepts it as it was understood; the table.
async fn table(app: &App, workspace: i64, name: &str, bytes: &[u8]) -> Result<i64, String> {
    let sentence = |e: StoreError| e.to_string();
    let upload = bring(app, workspace, None, name, bytes).await?;
    let read = app.store.upload(workspace, upload).await.map_err(sentence)?;
    let scan = uploads::ready(&read).map_err(|e| e.to_string())?;
    uploads::bring_in(app, &read, &scan).await.map_err(sentence)?;
    jobs::drain(app).await?;
    app.store.upload(workspace, upload).await.map_err(sentence)?.table_id.ok_or(format!("{name} was not imported"))
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
    let table = app.store.table(workspace, table).await.map_err(sentence)?;
    let study = pages::home::enter_study(app, account, &table, title, question).await.map_err(sentence)?;
    let outcome = Outcome::is(column, event);
    crate::pages::prepare::outcome::enter_outcome(app, workspace, account.into(), study, outcome)
        .await
        .map_err(|e| e.to_string())?;
    Ok(study)
}

/// Columns of two that say more together than each alone.
const TOGETHER: [(&str, &str); 2] = [
    ("species_and_tier", "species || ' ' || plan_tier"),
    ("moved_or_weekends", "CASE WHEN moved_home <> weekend_visits THEN 'one of the two' ELSE 'both or none' END"),
];

/// Members, outcome, columns, five candidates, a policy.
async fn churn(app: &App, workspace: i64, account: i64) -> Result<i64, String> {
    let sentence = |e: StoreError| e.to_string();
    let members = demo::members(demo::MEMBERS, demo::SEED, demo::FIRST_MEMBER);
    let table = table(app, workspace, "members.csv", &demo::outcome_csv(&members)).await?;
    let title = "Who will cancel at renewal, and whom is it worth ringing?";
    let study = begin(app, workspace, account, (table, title, Question::Churn), ("cancelled", "yes")).await?;
    let names =
        pages::prepare::enter_left_out(app, workspace, account.into(), study).await.map_err(|e| e.to_string())?;
    if names.is_empty() {
        return Err("nothing was proposed to be excluded".into());
    }
    for (name, role, figure) in [
        ("days_since_last_login", ColumnRole::LeftOut, "counted to the day of the extract, not to the decision"),
        ("sample_weight", ColumnRole::CaseWeight, "how many members each row of the extract stands for"),
    ] {
        let study = app.store.study(workspace, study).await.map_err(sentence)?;
        let mut state = study.choices().map_err(sentence)?;
        state.columns.iter_mut().filter(|c| c.name == name).for_each(|c| c.role = role);
        let choice = Choice { by: account.into(), chosen: format!("{name}: {}", role.word()), figure: figure.into() };
        pages::choose(app, &study, &state, &choice).await.map_err(|e| e.to_string())?;
    }
    for (name, expression) in TOGETHER {
        let view = StudyView::load(app, workspace, study).await.map_err(|e| e.to_string())?;
        let action = StepAction::Derive { name: name.into(), expression: expression.into() };
        let figure = "the interaction that Drivers found";
        crate::pages::prepare::steps::enter(app, account.into(), &view, action, figure)
            .await
            .map_err(|e| e.to_string())?;
    }
    fit(app, workspace, study, &["logistic", "scorecard", "forest", "boosted", "network"]).await?;
    let population = demo::RENEWALS.to_string();
    let amounts = TypedFields::from([
        ("value_kept", "146"),
        ("save_rate", "30"),
        ("offer_cost", "24"),
        ("stayers_take", "35"),
        ("contact_cost", "2.4"),
        ("currency", "EUR"),
        ("population", &population),
    ]);
    policy(app, workspace, account, study, &amounts).await?;
    Ok(study)
}

/// The list of renewals: scored, acted on with some held back, and what came of it; and a release.
async fn renewals(app: &App, workspace: i64, account: i64, study: i64) -> Result<(), String> {
    let renewals = demo::members(demo::RENEWALS, demo::SEED + 1, demo::FIRST_RENEWAL);
    let list = scored(app, workspace, study, ("renewals_next_quarter.csv", &demo::renewals_csv(&renewals))).await?;
    let drawn = drawn(app, workspace, (study, list), ("Fee holiday, next quarter", "fee holiday", "member_id")).await?;
    let happened = demo::renewed_csv(&demo::renewed(&renewals, &drawn.acted, demo::SEED + 5));
    let file = ("renewals_a_quarter_later.csv", happened.as_slice());
    came_of(app, workspace, study, drawn, (file, "cancelled")).await?;
    let view = StudyView::load(app, workspace, study).await.map_err(|e| e.to_string())?;
    pages::live::enter_release(app, account, &view, "renewals").await.map_err(|e| e.to_string())?;
    Ok(())
}

/// Customers who may be offered a dental check: scored, contacted with some held back, and who booked.
async fn dental_checks(app: &App, workspace: i64, study: i64) -> Result<(), String> {
    let customers = demo::dental_offer(demo::CUSTOMERS, demo::SEED + 6, demo::FIRST_CUSTOMER);
    let file = ("dental_customers.jsonl", demo::dental_customers_jsonl(&customers));
    let list = scored(app, workspace, study, (file.0, &file.1)).await?;
    let drawn = drawn(app, workspace, (study, list), ("Dental check, autumn", "letter", "customer")).await?;
    let booked = demo::booked_csv(&demo::booked(&customers, &drawn.acted, demo::SEED + 7));
    came_of(app, workspace, study, drawn, (("dental_checks_booked.csv", &booked), "booked")).await
}

/// Brings a list and scores it.
async fn scored(app: &App, workspace: i64, study: i64, (name, bytes): (&str, &[u8])) -> Result<i64, String> {
    let sentence = |e: StoreError| e.to_string();
    bring(app, workspace, Some(study), name, bytes).await?;
    let list = app.store.lists(study).await.map_err(sentence)?.into_iter().next().ok_or("the list was not matched")?;
    let extras = Extras { reasons: 3, ..Extras::usual() };
    pages::lists::list::enter_scoring(app, workspace, &list, &extras).await.map_err(sentence)?;
    jobs::drain(app).await?;
    Ok(list.id)
}

/// A campaign whose lots are drawn.
struct DemoCampaign {
    campaign: i64,
    /// The column that tells customers apart.
    key: &'static str,
    /// Those acted on.
    acted: Vec<u32>,
}

/// Draws who of a list is acted on and who is held back.
async fn drawn(
    app: &App,
    workspace: i64,
    (study, list): (i64, i64),
    (name, act, key): (&str, &str, &'static str),
) -> Result<DemoCampaign, String> {
    let sentence = |e: StoreError| e.to_string();
    let arms = Arms { control: CONTROL_SHARE, acts: vec![act.into()], seed: demo::SEED };
    let study = app.store.study(workspace, study).await.map_err(sentence)?;
    let (campaign, _) = app.store.queue_campaign(&study, list, name, &arms).await.map_err(sentence)?;
    jobs::drain(app).await?;
    let assigned = app.store.campaign(campaign).await.map_err(sentence)?.assigned_id.ok_or("nobody was randomised")?;
    let assigned = app.store.table(workspace, assigned).await.map_err(sentence)?;
    let names = [key.to_owned(), ARM.to_owned()];
    let rows = app.store.columns(&assigned, Some(&names)).await.map_err(sentence)?;
    let text = |name: &str, row: usize| rows.column(name).and_then(|column| column.text(row)).unwrap_or_default();
    let acted = (0..rows.rows()).filter(|&row| text(ARM, row) != CONTROL);
    let acted = acted.filter_map(|row| text(key, row).parse().ok()).collect();
    Ok(DemoCampaign { campaign, key, acted })
}

/// Brings in what came of a campaign.
async fn came_of(
    app: &App,
    workspace: i64,
    study: i64,
    drawn: DemoCampaign,
    ((name, bytes), outcome): ((&str, &[u8]), &str),
) -> Result<(), String> {
    let from = ResultsFrom {
        table: table(app, workspace, name, bytes).await?,
        keys: [drawn.key.into(), drawn.key.into()],
        outcome: outcome.into(),
        event: "yes".into(),
        money: Some("brought".into()),
        absent_had_none: false,
    };
    let results = Work::Results { campaign: drawn.campaign, from };
    let job = app.store.enqueue_once(workspace, Some(study), "Comparing the groups", &results).await;
    job.map_err(|e| e.to_string())?;
    jobs::drain(app).await
}

/// Sends a file in and reads it.
async fn bring(app: &App, workspace: i64, study: Option<i64>, name: &str, bytes: &[u8]) -> Result<i64, String> {
    std::fs::create_dir_all(&app.files.uploads).map_err(|e| e.to_string())?;
    let path = app.files.uploads.join(format!("demonstration-{name}"));
    std::fs::write(&path, bytes).map_err(|e| e.to_string())?;
    let arrived = Arrived { file_name: name, origin: None, path: &path, size: bytes.len() as u64 };
    let (upload, _) = app.store.take_in(workspace, study, &arrived).await.map_err(|e| e.to_string())?;
    jobs::drain(app).await?;
    Ok(upload)
}
