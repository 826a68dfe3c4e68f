//! A campaign: who is acted on and who is held back, and what came of it.

use std::collections::HashMap;

use pronoia_core::campaign::{Arms, CampaignOutcome, Happened, Learned, Results, assign};
use pronoia_core::score::{DECISION, GAIN, PROBABILITY};
use pronoia_core::table::ColumnBuilder;
use pronoia_core::{Column, Kind, Progress, Table};
use pronoia_store::campaign;
use pronoia_store::jobs::ResultsFrom;
use pronoia_store::records::{DrawnCampaign, Label, SealedFor, TableSource};

use super::import::keep;
use super::{Trouble, Watch, compute};
use crate::{App, text};

/// The column that holds what is done about a customer.
pub const ARM: &str = "pronoia_arm";

/// What it holds for those who are held back.
pub const CONTROL: &str = "control group";

/// Bands of probabilities that results are told by, and in which arms are drawn.
const BANDS: usize = 4;

/// Draws the arms of a campaign, and keeps its customers with them.
pub(super) async fn draw(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let campaign = app.store.campaign(id).await?;
    let address = format!("/studies/{}/campaigns/{id}", campaign.study_id);
    if campaign.assigned_id.is_none() {
        draw_arms(app, workspace, &campaign, watch).await?;
    }
    // From what is kept: a job that is begun again after it was kept enters the same.
    let campaign = app.store.campaign(id).await?;
    let many = |n: Option<i64>| text::count_of(n.unwrap_or(0));
    let figure = format!("{} acted on, {} in the control group", many(campaign.acted), many(campaign.held));
    app.store.note(campaign.study_id, None, &format!("Campaign “{}” randomised", campaign.name), &figure).await?;
    Ok(address)
}

async fn draw_arms(app: &App, workspace: i64, campaign: &campaign::Model, watch: &Watch) -> Result<(), Trouble> {
    let list = app.store.list(campaign.list_id).await?;
    let scored = list.scored_id.ok_or_else(|| Trouble::Failed("The list is no longer scored.".into()))?;
    let table = app.store.table(workspace, scored).await?;
    watch.tell("Reading the list", 0.0);
    let rows = app.store.columns(&table, None).await?;
    watch.go_on()?;
    watch.tell("Randomising", 0.3);
    let arms = campaign.drawn()?;
    let drawn = compute(move || drawn(&rows, &arms)).await?.map_err(Trouble::Failed)?;
    watch.go_on()?;
    watch.tell("Saving the treatments", 0.5);
    let origin = TableSource {
        sentence: format!("{}, randomised for {}", table.name, campaign.name),
        rejected: 0,
        misfit_cells: 0,
    };
    let label = Label { name: &campaign.name, source: &origin, is_list: true };
    let of = DrawnCampaign { campaign: campaign.id, acted: drawn.acted, held: drawn.held, gain: drawn.gain };
    keep(app, workspace, drawn.table, (label, SealedFor::Campaign(of)), watch).await?;
    Ok(())
}

struct RandomisedCampaign {
    table: Table,
    acted: u64,
    held: u64,
    gain: Option<f64>,
}

fn drawn(rows: &Table, arms: &Arms) -> Result<RandomisedCampaign, String> {
    let column = |name: &str| rows.column(name).ok_or_else(|| format!("The list has no column “{name}”."));
    let (decision, probability) = (column(DECISION)?, column(PROBABILITY)?);
    let chosen: Vec<usize> = (0..rows.rows()).filter(|&row| decision.text(row).as_deref() == Some("act")).collect();
    let told: Vec<f64> = chosen.iter().map(|&row| probability.number(row).unwrap_or(0.0)).collect();
    let of = assign(arms, &bands(&told));
    let mut arm = ColumnBuilder::new(ARM, Kind::Category);
    of.iter().for_each(|arm_of| arm.push_word(arm_of.and_then(|at| arms.acts.get(at)).map_or(CONTROL, String::as_str)));
    let acted: Vec<usize> = (0..chosen.len()).filter(|&at| of[at].is_some()).collect();
    let gain = rows.column(GAIN).map(|gain| acted.iter().filter_map(|&at| gain.number(chosen[at])).sum());
    Ok(RandomisedCampaign {
        table: rows.take(&chosen).with(arm.finish()),
        acted: acted.len() as u64,
        held: (chosen.len() - acted.len()) as u64,
        gain,
    })
}

/// The quarter of the customers that each belongs to, the most likely first; equal ones together.
fn bands(probability: &[f64]) -> Vec<usize> {
    let mut sorted = probability.to_vec();
    sorted.sort_unstable_by(|a, b| b.total_cmp(a));
    let edges: Vec<f64> =
        (1..BANDS).filter_map(|band| sorted.get((band * sorted.len() / BANDS).saturating_sub(1)).copied()).collect();
    probability.iter().map(|p| edges.partition_point(|least| p < least)).collect()
}

/// Finds out what came of a campaign.
pub(super) async fn results(
    app: &App,
    workspace: i64,
    id: i64,
    from: &ResultsFrom,
    watch: &Watch,
) -> Result<String, Trouble> {
    let campaign = app.store.campaign(id).await?;
    let list = app.store.list(campaign.list_id).await?;
    let assigned = campaign.assigned_id.ok_or_else(|| Trouble::Failed("The campaign is not randomised yet.".into()))?;
    let (assigned, table) =
        (app.store.table(workspace, assigned).await?, app.store.table(workspace, from.table).await?);
    watch.tell("Reading the outcomes", 0.0);
    let mut names = vec![from.keys[1].clone(), from.outcome.clone()];
    names.extend(from.money.clone());
    names.sort_unstable();
    names.dedup();
    let there = app.store.columns(&table, Some(&names)).await?;
    let mut own = vec![from.keys[0].clone(), ARM.to_owned(), PROBABILITY.to_owned()];
    own.dedup();
    let here = app.store.columns(&assigned, Some(&own)).await?;
    watch.go_on()?;
    watch.tell("Comparing the groups", 0.5);
    let (arms, chosen, asked, name) = (campaign.drawn()?, list.decided_by()?, from.clone(), table.name.clone());
    let outcome = compute(move || {
        let economics = chosen.policy.economics.typical();
        let (customers, mut outcome) = happened(&here, &there, &arms, &asked, &economics, name)?;
        outcome.results = Results::of(&customers, arms.acts.len());
        outcome.learned = outcome.results.as_ref().and_then(|results| Learned::of(&economics, &results.all));
        Ok::<_, String>(outcome)
    })
    .await?
    .map_err(Trouble::Failed)?;
    let figure = match &outcome.results {
        None => "no control group".to_owned(),
        Some(results) => format!(
            "{} against {} in the control group (95 % CI {} to {} points)",
            text::percent(results.all.acted.rate()),
            text::percent(results.all.control.rate()),
            text::fixed(results.all.interval.0 * 100.0, 1),
            text::fixed(results.all.interval.1 * 100.0, 1)
        ),
    };
    let value = serde_json::to_value(&outcome).map_err(|e| Trouble::Failed(e.to_string()))?;
    app.store.set_campaign_outcome(id, value).await?;
    app.store.note(campaign.study_id, None, &format!("Results of “{}” imported", campaign.name), &figure).await?;
    Ok(format!("/studies/{}/campaigns/{id}", campaign.study_id))
}

/// Every customer of a campaign with what happened to them.
fn happened(
    here: &Table,
    there: &Table,
    arms: &Arms,
    from: &ResultsFrom,
    economics: &pronoia_core::decide::Economics<f64>,
    table: String,
) -> Result<(Vec<Happened>, CampaignOutcome), String> {
    let column = |table: &'_ Table, name: &str| -> Result<Column, String> {
        table.column(name).cloned().ok_or_else(|| format!("There is no column “{name}”."))
    };
    let (key_here, key_there) = (column(here, &from.keys[0])?, column(there, &from.keys[1])?);
    let what = column(there, &from.outcome)?;
    let money = from.money.as_ref().map(|name| column(there, name)).transpose()?;
    let mut of: HashMap<String, (bool, f64, u32)> = HashMap::new();
    let mut any = false;
    for row in 0..there.rows() {
        let (Some(key), Some(word)) = (key_there.text(row), what.text(row)) else { continue };
        let event = word == from.event;
        any |= event;
        let found = of.entry(key).or_default();
        found.0 |= event;
        found.1 += money.as_ref().and_then(|money| money.number(row)).unwrap_or(0.0);
        found.2 += 1;
    }
    if !any {
        return Err(format!(
            "Nobody in {table} has “{}” in “{}”; choose the value of those with the event.",
            from.event, from.outcome
        ));
    }
    let (arm, probability) = (column(here, ARM)?, column(here, PROBABILITY)?);
    let told: Vec<f64> = (0..here.rows()).map(|row| probability.number(row).unwrap_or(0.0)).collect();
    let bands = bands(&told);
    let (mut customers, mut absent, mut matched) = (Vec::new(), [0, 0], 0);
    for row in 0..here.rows() {
        let word = arm.text(row).unwrap_or_default();
        let act = arms.acts.iter().position(|act| *act == word);
        let found = key_here.text(row).and_then(|key| of.get(&key));
        matched += u64::from(found.is_some());
        let (event, brought) = match found {
            Some((event, brought, _)) => (*event, *brought),
            None => {
                absent[usize::from(act.is_none())] += 1;
                if !from.absent_had_none {
                    continue;
                }
                (false, 0.0)
            }
        };
        let money = match &money {
            Some(_) => Some(brought),
            None => economics.brought(act.is_some(), event),
        };
        customers.push(Happened { arm: act, probability: told[row], band: bands[row], event, money });
    }
    if matched == 0 {
        return Err(format!(
            "Nobody of the campaign is in {table}: no value of “{}” occurs in “{}” there.",
            from.keys[0], from.keys[1]
        ));
    }
    let outcome = CampaignOutcome {
        table,
        results: None,
        learned: None,
        assumed_amounts: money.is_none(),
        absent,
        absent_had_none: from.absent_had_none,
        twice: of.values().filter(|(_, _, times)| *times > 1).count() as u64,
    };
    Ok((customers, outcome))
}
