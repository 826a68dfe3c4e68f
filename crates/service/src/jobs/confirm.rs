//! The sealed test is opened, once, to confirm the policy.

use pronoia_core::Progress;
use pronoia_core::decide::{PolicyAction, Ranking, Stakes};
use pronoia_core::evaluate::{Confusion, area_under_roc};
use pronoia_core::study::ChosenPolicy;
use serde::{Deserialize, Serialize};

use super::fit::{fetch_with, judge, parts};
use super::{Trouble, Watch, compute};
use crate::study_view::{decide_alike, whom};
use crate::{App, text};

/// What the sealed test said about a policy.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Confirmation {
    /// The policy that was judged.
    pub chosen: ChosenPolicy,
    /// Counts on the test rows.
    pub confusion: Confusion,
    /// Area under ROC on the test rows.
    pub area_under_roc: f64,
    /// What validation promised; none where that was not written down.
    pub promised: Option<f64>,
    /// What was found.
    pub found: f64,
    /// 90 % interval of what was found.
    pub low: f64,
    /// Its upper end.
    pub high: f64,
    /// The test rows in order of probability, now that they are known.
    #[serde(default)]
    pub ranking: Option<Ranking>,
}

impl Confirmation {
    /// Whether it is of this policy.
    pub fn is_of(&self, chosen: &ChosenPolicy) -> bool {
        decide_alike(&self.chosen, chosen)
    }
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
    let chosen = chosen.ok_or_else(|| {
        Trouble::Failed("The policy was changed in the meantime; the test set was not opened.".into())
    })?;
    let row = app.store.model(model_id).await?;
    let (basis, model) = (row.fitted_on()?, row.fitted()?);
    watch.tell("Evaluating on the sealed test set", 0.1);
    let inputs = chosen.policy.inputs();
    let table = fetch_with(app, workspace, &study, &basis, |_| Ok(inputs)).await?;
    let judged = chosen.clone();
    let confirmation = compute(move || {
        let test = parts(&table, &basis)?.test;
        let (probability, event) = judge(&model, &table, &basis, &test)?;
        let failed = |e: String| Trouble::Failed(e);
        let ranking = Ranking::of(&probability, &event).map_err(|e| failed(e.to_string()))?;
        let area_under_roc = area_under_roc(&probability, &event, None);
        let ChosenPolicy { policy, population, .. } = &judged;
        let (derived, _) = basis.population(&table).map_err(failed)?;
        let mut policy = policy.clone();
        let (offered, _) = policy.worked_out(&derived, &test).map_err(|e| failed(e.to_string()))?;
        let stakes = Stakes { rule: &policy.rule, offered: &offered, population };
        let decided = stakes.decided(&probability);
        let found = stakes.worth(&decided, &event);
        let mut confusion = Confusion::default();
        decided
            .actions
            .iter()
            .zip(&event)
            .for_each(|(action, happened)| confusion.add(*action == PolicyAction::Act, *happened));
        Ok::<_, Trouble>(Confirmation {
            promised: judged.promised.map(|promised| promised.profit),
            chosen: judged,
            confusion,
            area_under_roc,
            found: found.profit,
            low: found.low,
            high: found.high,
            ranking: Some(ranking),
        })
    })
    .await??;
    let value = serde_json::to_value(&confirmation).map_err(|e| Trouble::Failed(e.to_string()))?;
    let figure = format!(
        "{}observed {} (90 % CI {} to {}) {}",
        confirmation.promised.map_or(String::new(), |promised| format!("promised {}, ", text::money(promised))),
        text::money(confirmation.found),
        text::money(confirmation.low),
        text::money(confirmation.high),
        whom(&confirmation.chosen.population, &confirmation.chosen.currency)
    );
    app.store.set_confirmation(&study, value, ("Sealed test set opened", &figure)).await?;
    Ok(address)
}
