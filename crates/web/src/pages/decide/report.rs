//! Economics, policy and fairness, as sections of the statement.

use pronoia_core::study::ColumnRole;
use pronoia_service::ServiceError;
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::decide::policy_form::TypedFields;
use pronoia_service::study_view::{StudyView, whom};
use pronoia_service::text;

use super::summary::Here;
use super::{DecideParts, confirmed, groups, importance, today};
use crate::App;
use crate::pages::live::statement::document::Section;

/// The sections; none while no policy is kept.
pub async fn sections(app: &App, view: &StudyView) -> Result<Vec<Section>, ServiceError> {
    if view.state.policy.is_none() {
        return Ok(Vec::new());
    }
    let Some(situation) = Situation::of(app, view, &TypedFields::default()).await? else { return Ok(Vec::new()) };
    let parts = DecideParts::of(app, &situation, today(app, &situation).await?, &TypedFields::default())?;
    Ok(vec![
        economics(view, &situation, &parts)?,
        going_by(app, view, &situation).await?,
        fairness(app, view, &situation).await?,
    ])
}

fn economics(view: &StudyView, situation: &Situation, parts: &DecideParts) -> Result<Section, ServiceError> {
    let question = view.study.kind();
    let here = Here::of(situation);
    let chosen = &situation.chosen;
    let outcomes = parts.outcomes.iter().map(|outcome| {
        let offer = outcome.offer.as_ref().map_or(String::new(), |offer| format!("{}: ", offer.name));
        vec![format!("{offer}{}", outcome.who), outcome.formula.clone(), outcome.worth.clone()]
    });
    let rules = parts.rules.iter().map(|rule| {
        let band = rule.band.as_ref().map_or("–".to_owned(), |band| format!("{} to {}", band[0], band[1]));
        vec![rule.name.clone(), rule.share.clone(), rule.worth.clone(), band]
    });
    let assumptions = parts.assumptions.lines.iter().map(|line| {
        vec![line.name.to_owned(), line.value.clone(), line.break_even.clone(), line.less.clone(), line.more.clone()]
    });
    let sealed = match confirmed(view)? {
        None => "The sealed test set has not been opened.".to_owned(),
        Some(confirmed) => {
            let times = text::counted(view.study.test_openings as usize, "time", "times");
            let of = if confirmed.is_this_policy { "" } else { " for an earlier policy" };
            format!(
                "On the sealed test set, opened {times}, the expected profit was {}{of} (90 % CI {} to {}).",
                text::money(confirmed.found.found),
                text::money(confirmed.found.low),
                text::money(confirmed.found.high)
            )
        }
    };
    let edge = if parts.assumptions.pays { "loses money" } else { "pays" };
    Ok(Section::new("Economics")
        .says(format!("The rule: {} customers {}.", question.act(), chosen.policy.rule.in_words()))
        .says(format!(
            "Expected profit {} {} (90 % CI {} to {}, bootstrap). {} customers ({}) are selected; {} of every 100 of them {} (precision), and {} of 100 {} are found (recall). {}",
            here.profit,
            whom(&chosen.population, &chosen.currency),
            here.low,
            here.high,
            here.acted,
            here.share,
            here.per_hundred,
            question.event_would(),
            here.found_per_hundred,
            question.events_noun(),
            here.break_even
        ))
        .says(sealed)
        .table(vec!["outcome", "formula", "worth"], outcomes.collect(), 2)
        .says(parts.rules_finding.clone())
        .table(vec!["rule", "acted on", "worth", "90 % CI"], rules.collect(), 1)
        .says(parts.assumptions.finding.clone())
        .table(vec!["assumption", "assumed", edge, "profit at −20 %", "at +20 %"], assumptions.collect(), 1))
}

async fn going_by(app: &App, view: &StudyView, situation: &Situation<'_>) -> Result<Section, ServiceError> {
    let section = Section::new("Permutation importance");
    let Some(leaning) = importance::leaning(app, view, situation.model.id).await? else {
        return Ok(section.says("Not computed."));
    };
    let lines = leaning.lines.iter().map(|line| {
        let money = line.money.as_ref().map_or("–".to_owned(), |[less, range]| format!("{less} ({range})"));
        vec![line.column.clone(), line.area[0].clone(), money]
    });
    Ok(section
        .says(leaning.heading.clone())
        .says(leaning.stale.unwrap_or_default())
        .table(vec!["without", "AUC lost", "profit lost (90 % CI)"], lines.collect(), 1)
        .says(leaning.unused.clone().unwrap_or_default()))
}

async fn fairness(app: &App, view: &StudyView, situation: &Situation<'_>) -> Result<Section, ServiceError> {
    let sensitive: Vec<String> =
        view.state.columns.iter().filter(|c| c.role == ColumnRole::Sensitive).map(|c| c.name.clone()).collect();
    let mut section = Section::new("Fairness");
    if sensitive.is_empty() {
        return Ok(section.says("No column is marked as sensitive, so that no groups were compared."));
    }
    let goes_in = |name: &String| view.state.columns.iter().any(|c| c.name == *name && c.goes_in());
    let (seen, hidden): (Vec<&String>, Vec<&String>) = sensitive.iter().partition(|name| goes_in(name));
    if !hidden.is_empty() {
        section = section.says(format!("The model does not see {}.", text::listed(&hidden)));
    }
    if !seen.is_empty() {
        section = section.warns(format!("The model sees {}.", text::listed(&seen)));
    }
    for ladder in groups::ladders(app, view, situation, &sensitive, &sensitive).await? {
        let rungs = ladder.rungs.iter().map(|rung| {
            let of_others = match rung.ratio.1.as_str() {
                "" => rung.ratio.0.clone(),
                range => format!("{} ({range})", rung.ratio.0),
            };
            vec![
                rung.label.clone(),
                rung.rows.clone(),
                rung.acted.clone(),
                of_others,
                rung.precision.clone(),
                rung.recall.clone(),
                rung.gain.clone(),
            ]
        });
        let head = vec!["group", "customers", "acted on", "ratio to others", "precision", "recall", "gain"];
        section = section.says(ladder.finding.clone()).table(head, rungs.collect(), 1);
    }
    Ok(section)
}
