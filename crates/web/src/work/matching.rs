//! A list beside the model that is to score it, and beside the records that the model was made from.

use pronoia_core::decide::Ranking;
use pronoia_core::score::{Answers, Known, MatchReport, Paired, columns_of_policy, match_list, pair, same_rows};
use pronoia_core::study::{Basis, ChosenPolicy, Role};
use pronoia_core::{Model, Progress, Table};
use pronoia_store::{record_table, study};

use super::fit::{fetch_with, parts};
use super::{Trouble, Watch, compute};
use crate::App;
use crate::frame::decide_alike;

/// A list, matched.
pub(super) struct Matched {
    pub report: MatchReport,
    /// The columns needed, as the model reads them.
    pub columns: Table,
    /// The list as it was brought.
    pub list: Table,
    pub model: Model,
    /// The customers judged, by probability.
    pub judged: Option<Ranking>,
    pub basis: Basis,
    /// Of every customer, whether the model was fitted to them.
    pub fitted_to: Vec<bool>,
}

impl Matched {
    /// Matches the rows of a table to the model of a policy, by names and by what was said.
    pub async fn of(
        app: &App,
        study: &study::Model,
        table: &record_table::Model,
        (chosen, answers): (&ChosenPolicy, &Answers),
        watch: &Watch,
    ) -> Result<Self, Trouble> {
        let workspace = study.workspace_id;
        let row = app.store.model(chosen.model_id).await?;
        let (model, basis, judged) = (row.fitted()?, row.fitted_on()?, row.ranked()?);
        let records = app.store.table(workspace, study.records(basis.table)).await?;
        let kinds: Vec<_> = records.stored_columns()?.into_iter().map(|c| (c.name, c.kind)).collect();
        let of_policy = columns_of_policy(&chosen.policy, &basis.steps, &kinds).map_err(failed)?;
        watch.tell("Fetching the list", 0.1);
        let list = app.store.columns(table, None).await?;
        watch.go_on()?;
        watch.tell("Matching it to the model", 0.3);
        let said = answers.clone();
        let matching = move || {
            let (report, columns) = match_list(&model, &of_policy, &list, &said);
            (report, columns, list, model)
        };
        let (mut report, columns, list, model) = compute(matching).await?;
        watch.go_on()?;
        watch.tell("Looking for its customers in the records", 0.5);
        let identifiers: Vec<String> = study
            .choices()?
            .columns
            .into_iter()
            .filter(|column| column.role == Role::Identifier)
            .map(|column| column.name)
            .collect();
        let same = same_columns(&list, &columns, &identifiers, answers, &report);
        let (here, by, is_identifier) = same;
        let more = by.clone();
        let there = fetch_with(app, workspace, study, &basis, |_| Ok(more)).await?;
        watch.go_on()?;
        let (basis, found) = compute(move || {
            let found = beside(&here, &there, &by, &basis).map(|(known, fitted_to)| {
                (Known { by, is_identifier, in_records: known.0, fitted_to: known.1 }, fitted_to)
            });
            (basis, found)
        })
        .await?;
        let (known, fitted_to) = found?;
        report.known = Some(known);
        Ok(Self { report, columns, list, model, judged, basis, fitted_to })
    }
}

/// The columns of the list that tell its customers apart, under the names of the records: an
/// identifier, or else everything that the model reads.
fn same_columns(
    list: &Table,
    columns: &Table,
    identifiers: &[String],
    answers: &Answers,
    report: &MatchReport,
) -> (Table, Vec<String>, bool) {
    let needed: Vec<&str> = identifiers.iter().map(String::as_str).collect();
    let names: Vec<&str> = list.columns().iter().map(|c| c.name.as_str()).collect();
    for (name, paired) in needed.iter().zip(pair(&needed, &names, answers)) {
        let source = paired.source(name).and_then(|source| list.column(source));
        if let Some(column) = source.filter(|column| column.missing() < column.len()) {
            let renamed = pronoia_core::Column { name: (*name).to_owned(), ..column.clone() };
            return (Table::default().with(renamed), vec![(*name).to_owned()], true);
        }
    }
    let read = report.inputs.iter().filter(|i| !i.of_policy && !matches!(i.paired, Paired::Nothing | Paired::Open(_)));
    (columns.clone(), read.map(|input| input.name.clone()).collect(), false)
}

/// How many customers of the list are in the records and how many the model was fitted to; and
/// which these are.
fn beside(here: &Table, there: &Table, by: &[String], basis: &Basis) -> Result<((u64, u64), Vec<bool>), Trouble> {
    if by.is_empty() {
        return Ok(((0, 0), Vec::new()));
    }
    let same = same_rows(here, there, by).map_err(Trouble::Failed)?;
    let mut fitted = vec![false; there.rows()];
    basis.split.fitted_to(parts(there, basis)?).into_iter().for_each(|row| fitted[row] = true);
    let fitted_to: Vec<bool> = same.iter().map(|row| row.is_some_and(|row| fitted[row])).collect();
    let count = |flags: &mut dyn Iterator<Item = bool>| flags.filter(|flag| *flag).count() as u64;
    let known = count(&mut same.iter().map(Option::is_some));
    Ok(((known, count(&mut fitted_to.iter().copied())), fitted_to))
}

fn failed(e: impl std::fmt::Display) -> Trouble {
    Trouble::Failed(e.to_string())
}

/// Brings a table in as a list of a study, or finds the list that it is already.
pub(super) async fn begin(
    app: &App,
    study: &study::Model,
    table: &record_table::Model,
    chosen: &ChosenPolicy,
    watch: &Watch,
) -> Result<i64, Trouble> {
    let lists = app.store.lists(study.id).await?;
    for list in lists.iter().filter(|list| list.table_id == table.id) {
        if decide_alike(&list.decided_by()?, chosen) {
            return Ok(list.id);
        }
    }
    // What was said of the last list with the same columns holds for this one.
    let shape = |table: &record_table::Model| -> Result<Vec<String>, Trouble> {
        let mut names: Vec<String> = table.stored_columns()?.into_iter().map(|c| c.name).collect();
        names.sort_unstable();
        Ok(names)
    };
    let own = shape(table)?;
    let (mut answers, mut remembered) = (Answers::new(), None);
    for list in &lists {
        let said = list.said()?;
        if said.is_empty() {
            continue;
        }
        let before = app.store.table(study.workspace_id, list.table_id).await?;
        if shape(&before)? == own {
            (answers, remembered) = (said, Some(before.name));
            break;
        }
    }
    let mut report = Matched::of(app, study, table, (chosen, &answers), watch).await?.report;
    report.remembered = remembered;
    Ok(app.store.add_list(study.id, table.id, chosen, (&report, &answers)).await?)
}

/// The policy that a list of a study is scored with.
pub(super) fn policy_of(study: &study::Model) -> Result<ChosenPolicy, Trouble> {
    let chosen = study.choices()?.policy;
    chosen.ok_or_else(|| Trouble::Failed("The study has no policy to score a list with.".into()))
}

/// Takes a table of the records as a list.
pub(super) async fn bring(
    app: &App,
    workspace: i64,
    (study, table): (i64, i64),
    watch: &Watch,
) -> Result<String, Trouble> {
    let study = app.store.study(workspace, study).await?;
    let table = app.store.table(workspace, table).await?;
    let chosen = policy_of(&study)?;
    let list = begin(app, &study, &table, &chosen, watch).await?;
    Ok(format!("/studies/{}/lists/{list}", study.id))
}

/// Matches a list anew, after something was said about its columns.
pub(super) async fn again(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let list = app.store.list(id).await?;
    let study = app.store.study(workspace, list.study_id).await?;
    let table = app.store.table(workspace, list.table_id).await?;
    let (chosen, answers) = (list.decided_by()?, list.said()?);
    let report = Matched::of(app, &study, &table, (&chosen, &answers), watch).await?.report;
    app.store.set_report(id, &report).await?;
    Ok(format!("/studies/{}/lists/{id}", study.id))
}
