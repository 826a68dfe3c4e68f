//! Whether a version of a release keeps its promise, once it is known what happened.

use pronoia_core::evaluate::delong;
use pronoia_core::score::{ColumnAnswers, match_list};
use pronoia_core::watch::Performance;
use pronoia_core::{Model, Progress, Table};
use pronoia_store::monitoring::{OtherCandidate, Promise};

use super::matching::{Against, Met};
use super::{Trouble, Watch, compute};
use crate::{App, text};

/// Customers of whom it is known what happened, fewest, for a sentence about a model.
const FEWEST: usize = 100;

/// Compares what a version says of the customers of a table with what happened to them.
pub(super) async fn judge(
    app: &App,
    workspace: i64,
    (version, table): (i64, i64),
    watch: &Watch,
) -> Result<String, Trouble> {
    let version = app.store.release_version(version).await?;
    let release = app.store.release_of(version.release_id).await?;
    let study = app.store.study(workspace, release.study_id).await?;
    let table = app.store.table(workspace, table).await?;
    let chosen = version.decided_by()?;
    let row = app.store.model(version.model_id).await?;
    let promised = row.judged()?.and_then(|judged| judged.area());
    let against = Against::of(app, &study, &table, (&chosen, &ColumnAnswers::new()), watch).await?;
    watch.tell("Reading the table", 0.3);
    let list = app.store.columns(&table, None).await?;
    watch.go_on()?;
    watch.tell("Comparing predictions with observed outcomes", 0.8);
    // The model of the policy that is kept now, if that is another one.
    let other = match study.choices()?.policy.filter(|policy| policy.model_id != version.model_id) {
        Some(policy) => {
            let row = app.store.model(policy.model_id).await?;
            let on_same_records = row.fitted_on()?.table == against.basis.table;
            Some((row.name.clone(), row.fitted()?)).filter(|_| on_same_records)
        }
        None => None,
    };
    let found = compute(move || {
        let met = against.meet(&list)?;
        compared((&against, &list, &met), promised, other).map_err(Trouble::Failed)
    });
    let found = found.await??;
    app.store.add_promise(version.id, (table.id, &table.name), &found).await?;
    let kept = &found.kept;
    let figure = format!(
        "{} of {} had the event, {} were expected",
        text::count(kept.events),
        text::count(kept.rows),
        text::fixed(kept.expected, 0)
    );
    let verdict = match (kept.is_off(), kept.is_duller()) {
        (false, false) => "performs as at validation",
        (true, _) => "is not calibrated any more",
        (false, true) => "ranks customers worse than at validation",
    };
    let chosen = format!("“{}” version {} {verdict}", release.name, version.number);
    app.store.note(study.id, None, &chosen, &figure).await?;
    Ok(format!("/studies/{}/live#release-{}", study.id, release.id))
}

fn compared(
    (against, list, met): (&Against, &Table, &Met),
    promised: Option<delong::Area>,
    other: Option<(String, Model)>,
) -> Result<Promise, String> {
    let lacking = against.lacking();
    if !lacking.is_empty() {
        return Err(format!("The table lacks columns that the model reads: {}.", lacking.join(", ")));
    }
    let happened = against.model.outcome.read(list).map_err(|e| e.to_string())?;
    let fitted_to = |row: usize| met.fitted_to[row];
    let known: Vec<usize> = (0..happened.len()).filter(|&row| happened[row].is_some() && !fitted_to(row)).collect();
    let passed_over = (0..happened.len()).filter(|&row| happened[row].is_some() && fitted_to(row)).count();
    if known.len() < FEWEST {
        return Err(format!(
            "The outcome of {} is known, and {} of those were fitted to; performance needs {FEWEST} or more.",
            text::counted(known.len() + passed_over, "customer", "customers"),
            text::count(passed_over as u64)
        ));
    }
    let event: Vec<bool> = known.iter().map(|&row| happened[row] == Some(true)).collect();
    let told = against.model.probabilities(&met.columns, &known).map_err(|e| e.to_string())?;
    let beside = match other {
        Some((name, model)) => beside(&name, &model, list, (&known, &told, &event))?,
        None => None,
    };
    Ok(Promise { kept: Performance::of(&told, &event, promised), passed_over: passed_over as u64, beside })
}

/// Another model on the same customers; none if the table lacks what it reads.
fn beside(
    name: &str,
    model: &Model,
    list: &Table,
    (known, told, event): (&[usize], &[f64], &[bool]),
) -> Result<Option<OtherCandidate>, String> {
    let (report, columns) = match_list(model, &[], list, &ColumnAnswers::new());
    if !report.is_complete() {
        return Ok(None);
    }
    let theirs = model.probabilities(&columns, known).map_err(|e| e.to_string())?;
    let larger_by = delong::difference(&theirs, told, event).map(|area| (area.value, area.se));
    Ok(Some(OtherCandidate { model: name.to_owned(), kept: Performance::of(&theirs, event, None), larger_by }))
}
