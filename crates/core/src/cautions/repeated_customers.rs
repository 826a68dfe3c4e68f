//! Customers with several rows, who would be learned from and judged.

use std::collections::HashMap;

use super::{Caution, CautionInput, Remedy};
use crate::study::CautionKind;
use crate::study::ColumnRole;
use pronoia_data::number::count;

pub(super) fn look(seen: &CautionInput) -> Vec<Caution> {
    let named = seen.state.columns.iter().filter(|c| c.role == ColumnRole::Identifier);
    let columns = named.filter_map(|c| seen.table.column(&c.name));
    let mut cautions = Vec::new();
    for column in columns {
        let mut parts: HashMap<String, (u64, u8)> = HashMap::new();
        let dealt = [&seen.dealt.training, &seen.dealt.validation, &seen.dealt.test];
        for (part, rows) in dealt.into_iter().enumerate() {
            for value in rows.iter().filter_map(|&row| column.text(row)) {
                let seen = parts.entry(value).or_default();
                seen.0 += 1;
                seen.1 |= 1 << part;
            }
        }
        let several = parts.values().filter(|(rows, _)| *rows > 1).count();
        let torn = parts.values().filter(|(_, bits)| bits.count_ones() > 1).count();
        if torn > 0 {
            cautions.push(Caution {
                rule: CautionKind::RepeatedCustomers,
                about: column.name.clone(),
                heading: format!("{} customers are on both sides of the split", count(torn as u64)),
                evidence: format!(
                    "Of {} customers identified by {}, {} have several rows; {} of them are in the training set and in the rows for evaluation.",
                    count(parts.len() as u64),
                    column.name,
                    count(several as u64),
                    count(torn as u64)
                ),
                remedy: Remedy::KeepTogether { column: column.name.clone() },
            });
        }
    }
    cautions
}
