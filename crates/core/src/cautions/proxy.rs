//! A predictor that says nearly what a sensitive attribute says.

use std::collections::BTreeMap;

use super::{Caution, CautionInput, Remedy};
use crate::study::CautionKind;
use crate::study::ColumnRole;
use pronoia_data::drivers::Grouping;
use pronoia_data::number::percent;
use pronoia_data::table::Column;

/// Share of what there is to know of the attribute from which a column stands in for it.
const STANDS_IN: f64 = 0.1;

/// Groups that a column is cut into.
const GROUPS: usize = 12;

pub(super) fn look(seen: &CautionInput) -> Vec<Caution> {
    let event = seen.training_events();
    let sensitive = seen.state.columns.iter().filter(|c| c.role == ColumnRole::Sensitive);
    let attributes: Vec<&Column> = sensitive.filter_map(|c| seen.table.column(&c.name)).collect();
    let mut cautions = Vec::new();
    for column in seen.predictors() {
        let groups = Grouping::of(column, &seen.dealt.training, &event, GROUPS).codes;
        let told = attributes.iter().map(|a| (share_told(&groups, a, &seen.dealt.training), a));
        let Some((share, attribute)) = told.max_by(|a, b| a.0.total_cmp(&b.0)) else { continue };
        if share >= STANDS_IN {
            cautions.push(Caution {
                rule: CautionKind::StandIn,
                about: column.name.clone(),
                heading: format!("{} is a proxy for {}", column.name, attribute.name),
                evidence: format!(
                    "It explains {} of the entropy of {} (mutual information over entropy, training rows), a sensitive attribute.",
                    percent(share),
                    attribute.name
                ),
                remedy: Remedy::LeaveOut { column: column.name.clone() },
            });
        }
    }
    cautions
}

/// Mutual information of the groups with the attribute, over the attribute's entropy.
fn share_told(groups: &[u16], attribute: &Column, rows: &[usize]) -> f64 {
    let mut joint: BTreeMap<(u16, Option<String>), f64> = BTreeMap::new();
    let (mut of_group, mut of_value) = (BTreeMap::<u16, f64>::new(), BTreeMap::<Option<String>, f64>::new());
    for (&group, &row) in groups.iter().zip(rows) {
        let value = attribute.text(row);
        *joint.entry((group, value.clone())).or_default() += 1.0;
        *of_group.entry(group).or_default() += 1.0;
        *of_value.entry(value).or_default() += 1.0;
    }
    let n = rows.len().max(1) as f64;
    let entropy: f64 = of_value.values().map(|k| -(k / n) * (k / n).log2()).sum();
    let bits: f64 = joint.iter().map(|((g, v), k)| (k / n) * (k * n / (of_group[g] * of_value[v])).log2()).sum();
    if entropy > 0.0 { bits / entropy } else { 0.0 }
}
