//! A candidate is fitted again, to see that it comes out the same.

use pronoia_core::EvaluatedModel;
use pronoia_core::Progress;
use pronoia_core::progress::ProgressPart;
use pronoia_store::models::Proof;

use super::fit::{fetch, hold_memory};
use super::{Trouble, Watch, compute};
use crate::App;

/// Fits a candidate again on what it was fitted on, and compares the two bit for bit.
pub(super) async fn prove(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let row = app.store.model(id).await?;
    let study = app.store.study(workspace, row.study_id).await?;
    let (basis, recipe, seed) = (row.fitted_on()?, row.recipe()?, row.seed as u64);
    let before = row.fitted()?;
    let _held = hold_memory(app, workspace, &study, (&basis, &[&recipe]), watch).await?;
    watch.tell("Reading the columns", 0.0);
    let table = fetch(app, workspace, &study, &basis).await?;
    let part = watch.clone();
    let again =
        compute(move || EvaluatedModel::fit(&table, &basis, &recipe, seed, &ProgressPart::of(&part, 0.05, 1.0)))
            .await??
            .model;
    let bytes = again.to_bytes().map_err(|e| Trouble::Failed(e.to_string()))?;
    let proof = Proof {
        same: row.artefact.as_deref() == Some(&bytes[..]),
        same_records: before.fingerprint == again.fingerprint,
        version: again.version,
        at: chrono::Utc::now(),
    };
    app.store.set_proof(id, &proof).await?;
    let figure = match (proof.same, proof.same_records) {
        (true, _) => "the same model, bit for bit".to_owned(),
        (false, true) => format!("a different model from the same records, by version {}", proof.version),
        (false, false) => "a different model: the records are not the same".into(),
    };
    app.store.note(study.id, None, &format!("{} fitted again to prove it", row.name), &figure).await?;
    Ok(format!("/studies/{}/train?model={id}#open", study.id))
}
