//! Loads the made-up company, by the same actions as everybody else's records.

use std::collections::BTreeMap;

use pronoia_core::campaign::Arms;
use pronoia_core::prepare::StepAction;
use pronoia_core::question::Question;
use pronoia_core::score::Extras;
use pronoia_core::study::{ColumnRole, Outcome};
use pronoia_demo as demo;
use pronoia_store::jobs::{ResultsFrom, Work};
use pronoia_store::member_role::MemberRole;
use pronoia_store::sources::{StandIn, StandInTable};
use pronoia_store::uploads::Arrived;
use pronoia_store::{Store, StoreError};

use crate::decide::policy_form::TypedFields;
use crate::decide::{ComputeImportance, KeepPolicy};
use crate::jobs::campaign::{ARM, CONTROL};
use crate::lists::ScoreList;
use crate::live::ReleasePolicy;
use crate::prepare::columns::SetColumnRole;
use crate::prepare::steps::AddStep;
use crate::records::AcceptFile;
use crate::studies::CreateStudy;
use crate::study_view::StudyView;
use crate::train::FitCandidate;
use crate::{Action, Actor, App, jobs};

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

/// Does something as the demonstration's own analyst.
async fn perform<A: Action>(app: &App, (workspace, account): (i64, i64), action: A) -> Result<A::Done, String> {
    let by = Actor { workspace, account, role: MemberRole::Owner, seen: None };
    app.perform(by, action).await.map_err(|e| e.to_string())
}

/// The records beside those of the members, and the two questions asked of them.
async fn others(app: &App, workspace: i64, account: i64) -> Result<(), String> {
    let members = demo::members(demo::MEMBERS, demo::SEED, demo::FIRST_MEMBER);
    let visits = demo::visits_parquet(&demo::visits(&members, demo::SEED + 2)).map_err(|e| e.to_string())?;
    table(app, (workspace, account), "visits.parquet", &visits).await?;
    let agreements = demo::instalments(demo::AGREEMENTS, demo::SEED + 3);
    let workbook = demo::instalments_xlsx(&agreements).map_err(|e| e.to_string())?;
    let instalments = table(app, (workspace, account), "instalments.xlsx", &workbook).await?;
    let contacts = demo::dental_offer_jsonl(&demo::dental_offer(demo::CONTACTS, demo::SEED + 4, demo::FIRST_CONTACT));
    let dental = table(app, (workspace, account), "dental_offer.jsonl", &contacts).await?;
    credit(app, workspace, account, instalments).await?;
    response(app, workspace, account, dental).await
}

/// Agreements: two candidates, and a policy with two cut-offs and amounts of every agreement.
async fn credit(app: &App, workspace: i64, account: i64, table: i64) -> Result<(), String> {
    let title = "Who will fall behind on an instalment agreement?";
    let study = begin(app, (workspace, account), (table, title, Question::Credit), ("outcome", "fell behind")).await?;
    fit(app, (workspace, account), study, &["logistic", "boosted"]).await?;
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
    policy(app, workspace, account, study, amounts).await
}

/// Keeps a policy, and finds out what its model goes by.
async fn policy(app: &App, workspace: i64, account: i64, study: i64, amounts: TypedFields) -> Result<(), String> {
    perform(app, (workspace, account), KeepPolicy { study, policy: amounts }).await?;
    let view = StudyView::load(app, workspace, study).await.map_err(|e| e.to_string())?;
    let (_, model) = view.policy_model().ok_or("the policy was not kept")?;
    perform(app, (workspace, account), ComputeImportance { study, candidate: model.id }).await?;
    jobs::drain(app).await
}

/// The dental offer: three candidates, a policy, and a campaign with what came of it.
async fn response(app: &App, workspace: i64, account: i64, table: i64) -> Result<(), String> {
    let title = "Who will answer the offer of a dental check?";
    let study = begin(app, (workspace, account), (table, title, Question::Response), ("answered", "true")).await?;
    fit(app, (workspace, account), study, &["logistic", "scorecard", "boosted"]).await?;
    let customers = demo::CUSTOMERS.to_string();
    let amounts = TypedFields::from([
        ("margin", "28"),
        ("anyway", "20"),
        ("contact_cost", "1.1"),
        ("currency", "EUR"),
        ("population", &customers),
    ]);
    policy(app, workspace, account, study, amounts).await?;
    dental_checks(app, (workspace, account), study).await
}

/// Fits candidates of some families.
async fn fit(app: &App, by: (i64, i64), study: i64, families: &[&str]) -> Result<(), String> {
    for family in families {
        let fit = FitCandidate { study, family: (*family).to_owned(), settings: BTreeMap::new() };
        perform(app, by, fit).await?;
    }
    jobs::drain(app).await
}

/// Sends a file in and accepts it as it was understood; the table.
async fn table(app: &App, by: (i64, i64), name: &str, bytes: &[u8]) -> Result<i64, String> {
    let file = bring(app, by.0, None, name, bytes).await?;
    perform(app, by, AcceptFile { file, kinds: BTreeMap::new(), orders: BTreeMap::new() }).await?;
    jobs::drain(app).await?;
    let upload = app.store.upload(by.0, file).await.map_err(|e| e.to_string())?;
    upload.table_id.ok_or(format!("{name} was not imported"))
}

/// Begins a study of a table, and sets its outcome; the study.
async fn begin(
    app: &App,
    by: (i64, i64),
    (table, title, question): (i64, &str, Question),
    (column, event): (&str, &str),
) -> Result<i64, String> {
    let outcome = Some(Outcome::is(column, event));
    let study = CreateStudy { table, title: title.to_owned(), question: question.word().to_owned(), outcome };
    Ok(perform(app, by, study).await?.id)
}

/// Columns of two that say more together than each alone.
const TOGETHER: [(&str, &str); 2] = [
    ("species_and_tier", "species || ' ' || plan_tier"),
    ("moved_or_weekends", "CASE WHEN moved_home <> weekend_visits THEN 'one of the two' ELSE 'both or none' END"),
];

/// Members, outcome, columns, five candidates, a policy.
async fn churn(app: &App, workspace: i64, account: i64) -> Result<i64, String> {
    let members = demo::members(demo::MEMBERS, demo::SEED, demo::FIRST_MEMBER);
    let table = table(app, (workspace, account), "members.csv", &demo::outcome_csv(&members)).await?;
    let title = "Who will cancel at renewal, and whom is it worth ringing?";
    let study = begin(app, (workspace, account), (table, title, Question::Churn), ("cancelled", "yes")).await?;
    for (column, role, reason) in [
        ("days_since_last_login", ColumnRole::LeftOut, "counted to the day of the extract, not to the decision"),
        ("sample_weight", ColumnRole::CaseWeight, "how many members each row of the extract stands for"),
    ] {
        let (column, reason) = (column.to_owned(), reason.to_owned());
        let role = SetColumnRole { study, column, role: role.word().into(), known_when: None, reason };
        perform(app, (workspace, account), role).await?;
    }
    for (name, expression) in TOGETHER {
        let step = StepAction::Derive { name: name.into(), expression: expression.into() };
        let reason = "the interaction that Drivers found".to_owned();
        perform(app, (workspace, account), AddStep { study, step, reason }).await?;
    }
    fit(app, (workspace, account), study, &["logistic", "scorecard", "forest", "boosted", "network"]).await?;
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
    policy(app, workspace, account, study, amounts).await?;
    Ok(study)
}

/// The list of renewals: scored, acted on with some held back, and what came of it; and a release.
async fn renewals(app: &App, workspace: i64, account: i64, study: i64) -> Result<(), String> {
    let renewals = demo::members(demo::RENEWALS, demo::SEED + 1, demo::FIRST_RENEWAL);
    let list =
        scored(app, (workspace, account), study, ("renewals_next_quarter.csv", &demo::renewals_csv(&renewals))).await?;
    let drawn = drawn(app, workspace, (study, list), ("Fee holiday, next quarter", "fee holiday", "member_id")).await?;
    let happened = demo::renewed_csv(&demo::renewed(&renewals, &drawn.acted, demo::SEED + 5));
    let file = ("renewals_a_quarter_later.csv", happened.as_slice());
    came_of(app, (workspace, account), study, drawn, (file, "cancelled")).await?;
    perform(app, (workspace, account), ReleasePolicy { study, name: "renewals".into() }).await.map(drop)
}

/// Customers who may be offered a dental check: scored, contacted with some held back, and who booked.
async fn dental_checks(app: &App, (workspace, account): (i64, i64), study: i64) -> Result<(), String> {
    let customers = demo::dental_offer(demo::CUSTOMERS, demo::SEED + 6, demo::FIRST_CUSTOMER);
    let file = ("dental_customers.jsonl", demo::dental_customers_jsonl(&customers));
    let list = scored(app, (workspace, account), study, (file.0, &file.1)).await?;
    let drawn = drawn(app, workspace, (study, list), ("Dental check, autumn", "letter", "customer")).await?;
    let booked = demo::booked_csv(&demo::booked(&customers, &drawn.acted, demo::SEED + 7));
    came_of(app, (workspace, account), study, drawn, (("dental_checks_booked.csv", &booked), "booked")).await
}

/// Brings a list and scores it.
async fn scored(app: &App, by: (i64, i64), study: i64, (name, bytes): (&str, &[u8])) -> Result<i64, String> {
    let sentence = |e: StoreError| e.to_string();
    bring(app, by.0, Some(study), name, bytes).await?;
    let list = app.store.lists(study).await.map_err(sentence)?.into_iter().next().ok_or("the list was not matched")?;
    let extras = Extras { reasons: 3, ..Extras::usual() };
    perform(app, by, ScoreList { study, list: list.id, extras }).await?;
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
    (workspace, account): (i64, i64),
    study: i64,
    drawn: DemoCampaign,
    ((name, bytes), outcome): ((&str, &[u8]), &str),
) -> Result<(), String> {
    let from = ResultsFrom {
        table: table(app, (workspace, account), name, bytes).await?,
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
