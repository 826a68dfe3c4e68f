//! A list is scored into a table of its own: the original columns, then what there is to say.

use std::sync::Arc;

use pronoia_core::profile::{Evenly, TableProfile};
use pronoia_core::progress::ProgressPart;
use pronoia_core::score::{By, Extras, ListPart, Scoring, ScoringSummary, Settled};
use pronoia_core::study::ChosenPolicy;
use pronoia_core::{Progress, Table};
use pronoia_store::records::{Importer, Label, RowParts, ScoredList, SealedFor, TableSource};
use pronoia_store::{record_table, study};

use super::import::DESCRIBED;
use super::matching::Against;
use super::opt_outs::Suppressed;
use super::{Trouble, Watch, compute};
use crate::error::ServiceError;
use crate::scored_list::{ScoredGroups, mean_of_acted};
use crate::{App, text};

/// Scores a list.
pub(super) async fn score(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let list = app.store.list(id).await?;
    let study = app.store.study(workspace, list.study_id).await?;
    let address = format!("/studies/{}/lists/{id}", study.id);
    if list.scored_id.is_none()
        && let Err(trouble) = score_rows(app, &study, &list, watch).await
    {
        match &trouble {
            Trouble::Stopped => app.store.set_list_state(id, "stopped").await?,
            Trouble::Failed(_) => app.store.set_list_state(id, "failed").await?,
            Trouble::Away | Trouble::Lost => {}
        }
        return Err(trouble);
    }
    // From what is kept: a job that is begun again after it was kept enters the same.
    let list = app.store.list(id).await?;
    let rows = app.store.table(workspace, list.table_id).await?.rows;
    let mut figure = format!("{} of {} selected", text::count_of(list.acted.unwrap_or(0)), text::count_of(rows));
    if list.suppressed > 0 {
        figure += &format!("; {} opted out", text::count_of(list.suppressed));
    }
    app.store.note(study.id, None, "List scored", &figure).await?;
    Ok(address)
}

/// A list and all that it is scored by.
struct ScoringJob {
    against: Against,
    /// Those who are not to be contacted.
    suppressed: Option<Suppressed>,
    chosen: ChosenPolicy,
    extras: Extras,
    tenths: Vec<f64>,
    rows: usize,
}

impl ScoringJob {
    fn scoring(&self) -> Scoring<'_> {
        let (policy, population, steps) = (&self.chosen.policy, &self.chosen.population, &self.against.basis.steps[..]);
        let by = Some(By::Policy { policy, population, steps });
        Scoring { model: &self.against.model, by, extras: self.extras, tenths: &self.tenths }
    }

    /// Of every customer of a part, whether they are not to be contacted; empty if everybody may be.
    fn suppressed(&self, part: &Table) -> Result<Vec<bool>, Trouble> {
        self.suppressed.as_ref().map_or(Ok(Vec::new()), |suppressed| suppressed.find(part))
    }

    /// Looks through the whole list for what its customers are decided by.
    fn settle(&self, mut parts: RowParts, watch: &impl Progress) -> Result<Settled, Trouble> {
        let scoring = self.scoring();
        let (mut ahead, mut met) = (scoring.ahead(self.rows), 0);
        while let Some(part) = parts.wait()? {
            watch.go_on()?;
            watch.tell("Ranking the customers", met as f64 / self.rows.max(1) as f64);
            let suppressed = self.suppressed(&part)?;
            ahead.meet(&scoring, &self.against.read(&part), &suppressed).map_err(Trouble::Failed)?;
            met += part.rows();
        }
        Ok(ahead.settled())
    }

    /// Scores part by part, and hands each on; what came of it, and how the scored list is described.
    fn score(
        &self,
        mut parts: RowParts,
        settled: &Settled,
        hand_on: impl Fn(Table) -> bool,
        watch: &impl Progress,
    ) -> Result<(ScoringSummary, TableProfile), Trouble> {
        let scoring = self.scoring();
        let (mut account, mut evenly) = (ScoringSummary::default(), Evenly::up_to(DESCRIBED));
        while let Some(list) = parts.wait()? {
            watch.go_on()?;
            watch.tell("Scoring", account.rows as f64 / self.rows.max(1) as f64);
            let met = self.against.meet(&list)?;
            let part = ListPart {
                list: &list,
                matched: &met.columns,
                before: account.rows,
                known: &met.fitted_to,
                suppressed: &self.suppressed(&list)?,
            };
            let scored = scoring.part(part, settled).map_err(Trouble::Failed)?;
            account.add(&scored.account);
            evenly.meet(scored.table.clone());
            // Nobody receives any more once the writing has failed, which says why.
            if !hand_on(scored.table) {
                return Err(Trouble::Stopped);
            }
        }
        watch.tell("Profiling every column", 1.0);
        Ok((account, evenly.described()))
    }
}

async fn score_rows(
    app: &App,
    study: &study::Model,
    list: &pronoia_store::list::Model,
    watch: &Watch,
) -> Result<(), Trouble> {
    let workspace = study.workspace_id;
    let source = app.store.table(workspace, list.table_id).await?;
    let (chosen, answers, extras) = (list.decided_by()?, list.said()?, list.held()?);
    let against = Against::of(app, study, &source, (&chosen, &answers), watch).await?;
    let suppressed = Suppressed::of(app, study, (&source, &answers)).await?;
    let shift = chosen.population.shift();
    let tenths: Vec<f64> =
        against.judged.as_ref().map_or(Vec::new(), |r| r.tenths().into_iter().map(|p| shift.there(p)).collect());
    let job = Arc::new(ScoringJob { against, suppressed, chosen, extras, tenths, rows: source.rows as usize });

    let settled = if job.scoring().ahead(job.rows).is_needed() {
        let told_by: Vec<&str> = job.suppressed.iter().map(|suppressed| suppressed.source.as_str()).collect();
        let parts = job.against.parts(app, &source, Some(&told_by)).await?;
        let (job, watch) = (Arc::clone(&job), watch.clone());
        compute(move || job.settle(parts, &ProgressPart::of(&watch, 0.1, 0.4))).await??
    } else {
        job.scoring().ahead(job.rows).settled()
    };
    let parts = job.against.parts(app, &source, None).await?;
    let (sender, mut scored) = tokio::sync::mpsc::channel::<Table>(1);
    let scoring_watch = watch.clone();
    let scoring = tokio::spawn(async move {
        let hand_on = move |part: Table| sender.blocking_send(part).is_ok();
        compute(move || job.score(parts, &settled, hand_on, &ProgressPart::of(&scoring_watch, 0.4, 0.9))).await
    });
    let mut importer: Option<Importer> = None;
    while let Some(part) = scored.recv().await {
        if importer.is_none() {
            importer = Some(app.store.begin_import(workspace, &part.kinds()).await?);
        }
        if let Some(importer) = &mut importer {
            importer.add(&part).await?;
        }
    }
    let (account, profile) = scoring.await.map_err(|e| Trouble::Failed(format!("Scoring broke off: {e}.")))???;
    watch.go_on()?;
    let importer = importer.ok_or_else(|| Trouble::Failed("The list is empty.".into()))?;
    let origin = TableSource { sentence: format!("{}, scored", source.name), rejected: 0, misfit_cells: 0 };
    let label = Label { name: &format!("{} scored", source.name), source: &origin, is_list: true };
    let ScoringSummary { acted, gain, lacking, suppressed, .. } = account;
    let of_list = ScoredList { list: list.id, acted, gain, lacking, suppressed };
    let kept = importer.seal(label, &profile, SealedFor::List(of_list)).await?;
    // What its page begins with is worked out while nobody waits for it.
    let kept = app.store.table(workspace, kept).await?;
    if let Err(e) = looked_at(app, &kept).await {
        tracing::warn!("a list that was scored could not be added up: {e}");
    }
    Ok(())
}

/// Adds up what the page of a scored list shows of all its customers.
async fn looked_at(app: &App, table: &record_table::Model) -> Result<(), ServiceError> {
    ScoredGroups::of(app, table, None).await?;
    mean_of_acted(app, table).await?;
    Ok(())
}
