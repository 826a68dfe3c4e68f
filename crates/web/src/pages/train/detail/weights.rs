//! What values say by themselves, and how much columns count.

use pronoia_core::learn::bayes::Evidence;
use pronoia_core::learn::neighbours::KnownFeature;
use pronoia_core::number;
use pronoia_core::prepare::{Coding, Preparation};
use pronoia_service::text;

use super::DetailTable;

/// The values that say most, of all columns.
pub(super) fn evidence(of_features: &[Evidence], preparation: &Preparation) -> Option<DetailTable> {
    let mut lines: Vec<(String, f64)> = Vec::new();
    for (evidence, column) in of_features.iter().zip(&preparation.columns) {
        let name = &column.name;
        let missing = match evidence {
            Evidence::Bands { edges, adds, missing } => {
                let label = |band: usize| match edges.get(band) {
                    Some(up) => format!("{name} up to {}", number::plain(*up)),
                    None => format!("{name} over {}", edges.last().map_or("any".into(), |e| number::plain(*e))),
                };
                lines.extend(adds.iter().enumerate().map(|(band, add)| (label(band), *add)));
                missing
            }
            Evidence::Normal { events, others, missing } => {
                let label = format!(
                    "{name}: mean {} with the event, {} without",
                    number::plain(events[0]),
                    number::plain(others[0])
                );
                lines.push((label, (events[0] - others[0]) / others[1].sqrt()));
                missing
            }
            Evidence::Levels { adds, missing } => {
                let label = |code: usize| format!("{name} is “{}”", preparation.level_of(name, code as u32));
                lines.extend(adds.iter().enumerate().map(|(code, add)| (label(code), *add)));
                missing
            }
        };
        if *missing != 0.0 {
            lines.push((format!("{name} is missing"), *missing));
        }
    }
    lines.sort_by(|a, b| b.1.abs().total_cmp(&a.1.abs()));
    let rows = lines.into_iter().map(|(label, add)| vec![label, text::fixed(add, 2)]).collect();
    DetailTable::of("Largest weights of evidence".into(), vec!["value", "adds"], rows)
}

/// How much every column counts when customers are compared.
pub(super) fn weights(known: &[KnownFeature], preparation: &Preparation) -> Option<DetailTable> {
    let counts = known.iter().map(|known| match known {
        KnownFeature::Numbers(_, counts) | KnownFeature::Levels(_, counts) => f64::from(*counts),
    });
    let most = counts.clone().fold(f64::MIN_POSITIVE, f64::max);
    // A gap of a number has a feature of its own, which stands after its column.
    let mut names: Vec<String> = Vec::new();
    for column in &preparation.columns {
        names.push(column.name.clone());
        if let Coding::Number { flag: true, .. } = column.coding {
            names.push(format!("{} is missing", column.name));
        }
    }
    let mut lines: Vec<(String, f64)> = names.into_iter().zip(counts).collect();
    lines.sort_by(|a, b| b.1.total_cmp(&a.1));
    let rows = lines.into_iter().map(|(name, counts)| vec![name, text::percent(counts / most)]).collect();
    DetailTable::of("Weight of each column, relative to the largest".into(), vec!["column", "counts"], rows)
}
