//! What came of a campaign, in sentences and figures.

use pronoia_core::campaign::{CampaignOutcome, Effect, EffectStratum, Learned};
use pronoia_core::question::Question;
use pronoia_core::stats::Count;
use pronoia_core::study::ChosenPolicy;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use pronoia_store::campaign;

use crate::definitions::{self, Meanings};
use crate::frame::encoded;

/// Width of the ladder in its own units.
const WIDTH: f64 = 200.0;

/// What came of it.
pub struct CameOfIt {
    pub heading: String,
    /// Why nothing can be said, where that is so.
    pub nothing: Option<String>,
    pub groups: Vec<CampaignGroupLine>,
    /// Of the first group acted on.
    pub meaning: Meanings,
    pub money: Option<String>,
    pub learned: Option<String>,
    /// Decide with what was found.
    pub decide: Option<String>,
    pub bands: Vec<BandLine>,
    /// Of whom probabilities were said: records of contacts say them of those contacted.
    pub said_of: &'static str,
    pub bands_finding: String,
    pub read: String,
}

/// A group of customers.
pub struct CampaignGroupLine {
    pub name: String,
    pub rows: String,
    pub events: String,
    pub rate: String,
    pub interval: String,
    /// Against those held back.
    pub difference: Option<[String; 2]>,
}

/// A band of probabilities.
pub struct BandLine {
    pub label: String,
    pub rows: [String; 2],
    pub said: String,
    pub rates: [String; 2],
    pub difference: [String; 2],
    /// Where those held back and those acted on, and their intervals, lie on the ladder.
    pub control: [String; 3],
    pub acted: [String; 3],
}

impl CameOfIt {
    pub fn of(
        outcome: CampaignOutcome,
        campaign: &campaign::Model,
        arms: &pronoia_core::campaign::Arms,
        chosen: &ChosenPolicy,
        view: &StudyView,
    ) -> Self {
        let question = view.study.kind();
        let absent = match (outcome.absent, outcome.absent_had_none) {
            ([0, 0], _) => String::new(),
            ([acted, control], had_none) => format!(
                " {} acted on and {} of the control group are not in it and {}.",
                text::count(acted),
                text::count(control),
                if had_none { "count as without the event" } else { "are excluded" }
            ),
        };
        let twice = match outcome.twice {
            0 => String::new(),
            n => format!(
                " {} more than once, and count once.",
                text::counted(n as usize, "customer is in it", "customers are in it")
            ),
        };
        let read = format!("Read from {}.{absent}{twice}", outcome.table);
        let Some(results) = outcome.results else {
            let nothing = "There was no control group, or its outcomes are not known: what would have happened anyway cannot be separated from the effect of the campaign. Draw a control group next time.";
            return Self {
                heading: "No control group, no estimate of the effect.".into(),
                nothing: Some(nothing.into()),
                groups: Vec::new(),
                meaning: Meanings::new(),
                money: None,
                learned: None,
                decide: None,
                bands: Vec::new(),
                said_of: "",
                bands_finding: String::new(),
                read,
            };
        };
        let all = &results.all;
        let points = |share: f64| text::fixed(share * 100.0, 1);
        let [from, to] = [all.control.rate(), all.acted.rate()].map(text::percent);
        let verdict = match all.is_clear() {
            false => "No clear effect",
            true if all.difference > 0.0 => "Effect, higher",
            true => "Effect, lower",
        };
        let heading = format!(
            "{verdict}: {} points (95 % CI {} to {}); {to} of those acted on {}, {from} of the control group.",
            points(all.difference),
            points(all.interval.0),
            points(all.interval.1),
            question.event_verb(),
        );
        let group = |name: &str, effect: &Effect, control: bool| {
            let count = if control { effect.control } else { effect.acted };
            let (low, high) = count.interval();
            CampaignGroupLine {
                name: name.to_owned(),
                rows: text::count(count.rows),
                events: text::count(count.events),
                rate: text::percent(count.rate()),
                interval: format!("{} to {}", text::percent(low), text::percent(high)),
                difference: (!control).then(|| {
                    [
                        points(effect.difference),
                        format!("{} to {}", points(effect.interval.0), points(effect.interval.1)),
                    ]
                }),
            }
        };
        let mut groups = vec![group("control group", all, true)];
        groups.extend(arms.acts.iter().zip(&results.acts).map(|(act, effect)| group(act, effect, false)));
        if arms.acts.len() > 1 {
            groups.push(group("all acted on", all, false));
        }
        let most = results
            .bands
            .iter()
            .flat_map(|band| [band.effect.acted.interval().1, band.effect.control.interval().1])
            .fold(f64::MIN_POSITIVE, f64::max);
        let place = |share: f64| format!("{:.1}", share / most * WIDTH);
        let ends = |count: Count| {
            let (low, high) = count.interval();
            [count.rate(), low, high].map(place)
        };
        let bands = results.bands.iter().map(|band| BandLine {
            label: format!("{} to {}", text::fixed(band.from, 3), text::fixed(band.to, 3)),
            rows: [band.effect.control.rows, band.effect.acted.rows].map(text::count),
            said: text::percent(said_of(question, band).0),
            rates: [band.effect.control.rate(), band.effect.acted.rate()].map(text::percent),
            difference: [
                points(band.effect.difference),
                format!("{} to {}", points(band.effect.interval.0), points(band.effect.interval.1)),
            ],
            control: ends(band.effect.control),
            acted: ends(band.effect.acted),
        });
        Self {
            heading,
            nothing: None,
            meaning: definitions::effect(results.acts.first().unwrap_or(all), question),
            money: results.money.map(|(found, low, high)| {
                let finding = match () {
                    () if low > 0.0 => "Incremental profit",
                    () if high < 0.0 => "Incremental loss",
                    () => "No clear incremental profit",
                };
                let basis = if outcome.assumed_amounts {
                    "with the amounts of the policy"
                } else {
                    "from the column of results"
                };
                let expected = campaign.gain.map_or(String::new(), |expected| {
                    format!(
                        "; {} was expected, {} the interval",
                        text::money(expected),
                        if (low..=high).contains(&expected) { "inside" } else { "outside" }
                    )
                });
                format!(
                    "{finding}: {} against no action (95 % CI {} to {}), {basis}{expected}.",
                    text::money_in(found, &chosen.currency),
                    text::money(low),
                    text::money(high)
                )
            }),
            learned: outcome.learned.as_ref().map(learned_said),
            decide: outcome.learned.as_ref().filter(|learned| !learned.agrees()).map(|learned| {
                let found = text::plain_share((learned.found.clamp(0.0, 1.0) * 1_000.0).round() / 1_000.0);
                format!("{}?{}={}", view.href("decide"), encoded(&learned.word), found)
            }),
            said_of: if question == Question::Response { "acted on" } else { "control group" },
            bands_finding: bands_said(&results.bands, question),
            bands: bands.collect(),
            groups,
            read,
        }
    }
}

fn learned_said(learned: &Learned) -> String {
    let share = text::percent;
    let (low, high) = learned.interval;
    let found = format!("“{}”: {} (95 % CI {} to {})", learned.name, share(learned.found), share(low), share(high));
    if learned.agrees() {
        format!("{found}, consistent with the assumed {} (inside the interval).", share(learned.assumed))
    } else {
        format!("{found}, not the assumed {} (outside the interval).", share(learned.assumed))
    }
}

/// What was said of a band, and of whom it was said: a model that learned from contacts says who
/// answers when contacted, every other what happens when nothing is done.
fn said_of(question: Question, band: &EffectStratum) -> (f64, Count) {
    match question {
        Question::Response => (band.said_acted, band.effect.acted),
        _ => (band.said, band.effect.control),
    }
}

/// Whether what was said beforehand came true, and who was moved most.
fn bands_said(bands: &[EffectStratum], question: Question) -> String {
    let whom = if question == Question::Response { "those acted on" } else { "the control group" };
    let misjudged = bands.iter().filter(|band| {
        let (said, count) = said_of(question, band);
        let (low, high) = count.interval();
        said < low || said > high
    });
    let judged = match misjudged.count() {
        0 => format!("Calibrated for {whom}: the predicted probability is inside the 95 % CI in every group."),
        n => format!(
            "Not calibrated for {whom}: the predicted probability is outside the 95 % CI in {}.",
            text::counted(n, "group", "groups")
        ),
    };
    let most = bands.iter().max_by(|a, b| a.effect.difference.abs().total_cmp(&b.effect.difference.abs()));
    let moved =
        most.filter(|band| band.effect.is_clear()).map_or(" No clear effect in any single group.".to_owned(), |band| {
            format!(
                " Largest effect: predicted probability {} to {}.",
                text::fixed(band.from, 3),
                text::fixed(band.to, 3)
            )
        });
    let likely = if question == Question::Response { "likely" } else { "at risk" };
    format!("{judged}{moved} Being {likely} is not the same as responding to the action.")
}
