//! The sealed test is opened, once, to confirm the policy.

use pronoia_core::Progress;
use pronoia_core::decide::Ranking;
use pronoia_core::evaluate::{Confusion, area_under_roc};
use serde::{Deserialize, Serialize};

use super::fit::{fetch, judge, parts};
use super::{Trouble, Watch, compute};
use crate::{App, frame, text};

/// What the sealed test said about a policy.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Confirmation {
    /// The model that was judged.
    pub model_id: i64,
    /// Its cut-off.
    pub cut_off: f64,
    /// Counts on the test rows.
    pub confusion: Confusion,
    /// Area under ROC on the test rows.
    pub area_under_roc: f64,
    /// What validation promised, per 1 000 customers.
    pub promised: f64,
    /// What was found, per 1 000 customers.
    pub found: f64,
    /// 90 % interval of what was found.
    pub low: f64,
    /// Its upper end.
    pub high: f64,
    /// The test rows in order of probability, now that they are known.
    #[serde(default)]
    pub ranking: Option<Ranking>,
}

/// Judges the policy on the test rows and writes down what was found.
pub(super) async fn confirm(
    app: &App,
    workspace: i64,
    study_id: i64,
    model_id: i64,
    watch: &Watch,
) -> Result<String, Trouble> {
    let study = app.store.study(workspace, study_id).await?;
    let address = format!("/studies/{study_id}/decide");
    let chosen = study.choices()?.policy.filter(|p| p.model_id == model_id);
    let chosen = chosen
        .ok_or_else(|| Trouble::Failed("The policy was changed in the meantime; the seal was not opened.".into()))?;
    let row = app.store.model(model_id).await?;
    let (basis, model) = (row.fitted_on()?, row.fitted()?);
    let validation = row.ranked()?.ok_or_else(|| Trouble::Failed("The model was not judged yet.".into()))?;
    watch.tell("Opening the sealed test", 0.1);
    let table = fetch(app, workspace, &study, &basis).await?;
    let seed = row.seed as u64;
    let policy = chosen.policy.clone();
    let confirmation = compute(move || {
        let test = parts(&table, &basis)?.test;
        let (probability, event) = judge(&model, &table, &basis, &test)?;
        let prices = policy.economics.prices();
        let at = |ranking: &Ranking| ranking.profit(&prices, 1_000.0)[ranking.position_of(policy.cut_off)];
        let ranking = Ranking::of(&probability, &event, seed).map_err(|e| Trouble::Failed(e.to_string()))?;
        let found = at(&ranking);
        Ok::<_, Trouble>(Confirmation {
            model_id,
            cut_off: policy.cut_off,
            confusion: Confusion::at(&probability, &event, policy.cut_off),
            area_under_roc: area_under_roc(&probability, &event, None),
            promised: at(&validation).profit,
            found: found.profit,
            low: found.low,
            high: found.high,
            ranking: Some(ranking),
        })
    })
    .await??;
    let value = serde_json::to_value(&confirmation).map_err(|e| Trouble::Failed(e.to_string()))?;
    app.store.set_confirmation(&study, value).await?;
    let figure = format!(
        "promised {}, found {} ({} to {}) {}",
        text::money(confirmation.promised),
        text::money(confirmation.found),
        text::money(confirmation.low),
        text::money(confirmation.high),
        frame::whom(None)
    );
    app.store.note(study_id, None, "Sealed test opened", &figure).await?;
    Ok(address)
}
