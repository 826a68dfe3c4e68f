//! A list beside the model that is to score it, and beside the records that the model was made from.

use pronoia_core::decide::Ranking;
use pronoia_core::score::{ColumnAnswers, KnownCustomers, MatchReport, Matching, Roll, columns_of_policy, pair};
use pronoia_core::study::{Basis, ChosenPolicy, ColumnRole};
use pronoia_core::{Column, Model, Progress, Table};
use pronoia_store::records::RowParts;
use pronoia_store::{record_table, study};

use super::fit::{fetch_with, parts};
use super::{Trouble, Watch, compute};
use crate::App;
use crate::study_view::decide_alike;

/// Rows of a list that are looked at at a time.
const ROWS: usize = 20_000;

/// What a list is held against.
pub(super) struct Against {
    pub model: Model,
    /// The customers judged, by probability.
    pub judged: Option<Ranking>,
    pub basis: Basis,
    matching: Matching,
    /// The columns in which customers of the records are found again.
    by: Vec<String>,
    /// The identifier in the list, where it is one.
    identifier: Option<String>,
    /// Nobody is found where there is nothing to find them by.
    roll: Option<Roll>,
    /// Of every customer of the records, whether the model was fitted to them.
    fitted: Vec<bool>,
}

/// A part of a list, beside what it is held against.
pub(super) struct Met {
    /// The columns needed, as the model reads them.
    pub columns: Table,
    /// Of every customer, whether the model was fitted to them.
    pub fitted_to: Vec<bool>,
    /// How many of them are in the records.
    in_records: u64,
}

impl Against {
    /// The model of a policy and the records that it was made from, for a list that is matched by
    /// names and by what was said.
    pub async fn of(
        app: &App,
        study: &study::Model,
        table: &record_table::Model,
        (chosen, answers): (&ChosenPolicy, &ColumnAnswers),
        watch: &Watch,
    ) -> Result<Self, Trouble> {
        let workspace = study.workspace_id;
        let row = app.store.model(chosen.model_id).await?;
        let (model, basis, judged) = (row.fitted()?, row.fitted_on()?, row.ranked()?);
        let records = app.store.table(workspace, study.records(basis.table)).await?;
        let of_policy = columns_of_policy(&chosen.policy, &basis.steps, &records.kinds()?).map_err(failed)?;
        let matching = Matching::of(&model, &of_policy, &table.kinds()?, answers);
        let identified = identifier(study, table, answers)?;
        let by = match &identified {
            Some((name, _)) => vec![name.clone()],
            None => matching.known().filter(|found| !found.of_policy).map(|found| found.name.clone()).collect(),
        };
        watch.tell("Reading the records", 0.0);
        let more = by.clone();
        let there = fetch_with(app, workspace, study, &basis, |_| Ok(more)).await?;
        watch.go_on()?;
        let known = by.clone();
        let (basis, found) = compute(move || {
            let found = enrolled(&there, &known, &basis);
            (basis, found)
        })
        .await?;
        let (roll, fitted) = found?;
        let identifier = identified.map(|(_, source)| source);
        Ok(Self { model, judged, basis, matching, by, identifier, roll, fitted })
    }

    /// Names of needed columns about which nothing is known.
    pub fn lacking(&self) -> Vec<&str> {
        self.matching.lacking().collect()
    }

    /// The rows of a list, in parts; only the columns that matching needs and `besides`, or all.
    pub async fn parts(
        &self,
        app: &App,
        table: &record_table::Model,
        besides: Option<&[&str]>,
    ) -> Result<RowParts, Trouble> {
        let more = besides.unwrap_or_default().iter().copied();
        let mut names: Vec<String> =
            self.matching.sources().chain(self.identifier.as_deref()).chain(more).map(str::to_owned).collect();
        names.sort_unstable();
        names.dedup();
        // Rows are counted where nothing else is to be read of them, too.
        let names = Some(&names[..]).filter(|names| besides.is_some() && !names.is_empty());
        Ok(app.store.parts(table, names, ROWS).await?)
    }

    /// The columns needed of a part of the list, as the model reads them.
    pub fn read(&self, part: &Table) -> Table {
        self.matching.read(part)
    }

    /// A part of the list beside the model and the records.
    pub fn meet(&self, part: &Table) -> Result<Met, Trouble> {
        let columns = self.read(part);
        let identifier = self.identifier.as_ref().and_then(|source| part.column(source)).zip(self.by.first());
        let same = match (&self.roll, identifier) {
            (None, _) => vec![None; part.rows()],
            (Some(roll), None) => roll.find(&columns).map_err(Trouble::Failed)?,
            (Some(roll), Some((column, name))) => {
                let renamed = Column { name: name.clone(), ..column.clone() };
                roll.find(&Table::default().with(renamed)).map_err(Trouble::Failed)?
            }
        };
        let fitted_to = same.iter().map(|row| row.is_some_and(|row| self.fitted[row])).collect();
        Ok(Met { columns, fitted_to, in_records: same.iter().flatten().count() as u64 })
    }

    /// Looks through the whole list.
    async fn report(mut self, app: &App, table: &record_table::Model, watch: &Watch) -> Result<MatchReport, Trouble> {
        let mut parts = self.parts(app, table, Some(&[])).await?;
        let (rows, watch) = (table.rows.max(1) as f64, watch.clone());
        compute(move || {
            let (mut met, mut in_records, mut fitted_to) = (0, 0, 0);
            while let Some(part) = parts.wait()? {
                watch.go_on()?;
                watch.tell("Matching the list to the model", 0.2 + 0.8 * met as f64 / rows);
                let here = self.meet(&part)?;
                self.matching.meet(&part, &here.columns);
                in_records += here.in_records;
                fitted_to += here.fitted_to.iter().filter(|fitted| **fitted).count() as u64;
                met += part.rows();
            }
            let known = KnownCustomers { by: self.by, is_identifier: self.identifier.is_some(), in_records, fitted_to };
            Ok(MatchReport { known: Some(known), ..self.matching.report() })
        })
        .await?
    }
}

/// An identifier of the records that the list has, and the column that it is read from.
fn identifier(
    study: &study::Model,
    list: &record_table::Model,
    answers: &ColumnAnswers,
) -> Result<Option<(String, String)>, Trouble> {
    let columns = study.choices()?.columns.into_iter().filter(|column| column.role == ColumnRole::Identifier);
    let needed: Vec<String> = columns.map(|column| column.name).collect();
    let needed: Vec<&str> = needed.iter().map(String::as_str).collect();
    let figures = list.figures()?;
    let names: Vec<&str> = figures.columns.iter().map(|column| column.name.as_str()).collect();
    let has_values = |name: &str| figures.column(name).is_some_and(|column| column.missing < figures.described());
    let found = needed.iter().zip(pair(&needed, &names, answers)).find_map(|(name, paired)| {
        let source = paired.source(name).filter(|source| has_values(source))?;
        Some(((*name).to_owned(), source.to_owned()))
    });
    Ok(found)
}

/// The customers of the records by some columns, and to which of them the model was fitted.
fn enrolled(records: &Table, by: &[String], basis: &Basis) -> Result<(Option<Roll>, Vec<bool>), Trouble> {
    if by.is_empty() {
        return Ok((None, Vec::new()));
    }
    let mut fitted = vec![false; records.rows()];
    basis.split.fitted_to(parts(records, basis)?).into_iter().for_each(|row| fitted[row] = true);
    Ok((Some(Roll::of(records, by).map_err(Trouble::Failed)?), fitted))
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
    if let Some(list) = app.store.list_of_job().await? {
        return Ok(list);
    }
    let lists = app.store.lists(study.id).await?;
    for list in lists.iter().filter(|list| list.table_id == table.id) {
        if decide_alike(&list.decided_by()?, chosen) {
            return Ok(list.id);
        }
    }
    // What was said of the last list with the same columns holds for this one.
    let shape = |table: &record_table::Model| -> Result<Vec<String>, Trouble> {
        let mut names = table.names()?;
        names.sort_unstable();
        Ok(names)
    };
    let own = shape(table)?;
    let (mut answers, mut remembered) = (ColumnAnswers::new(), None);
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
    let against = Against::of(app, study, table, (chosen, &answers), watch).await?;
    let mut report = against.report(app, table, watch).await?;
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
    let against = Against::of(app, &study, &table, (&chosen, &answers), watch).await?;
    let report = against.report(app, &table, watch).await?;
    app.store.set_report(id, &report).await?;
    Ok(format!("/studies/{}/lists/{id}", study.id))
}
