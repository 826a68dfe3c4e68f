//! What every step does to the training rows, for the analyst to see.

use super::fitting::FittedStep;
use super::steps::{PreparationStep, StepAction};
use super::{Encoder, TrainingRows};
use pronoia_data::Table;
use pronoia_data::expression::Expression;
use pronoia_data::number::{count, fixed, percent, plain};
use pronoia_data::profile::ColumnProfile;
use pronoia_data::table::Column;

/// What a step does.
#[derive(Debug, Clone, PartialEq)]
pub struct StepEffect {
    /// In a sentence with figures.
    pub sentence: String,
    /// The column before the step, where it changes one.
    pub before: Option<ColumnProfile>,
    /// The column that it made or changed.
    pub after: Option<ColumnProfile>,
}

/// Takes the steps in order on the rows given, and says what each does; an
/// error in words where one cannot be taken, after which the others go on
/// without it. None for those that are switched off.
pub fn effects(
    steps: &[PreparationStep],
    table: &Table,
    training: &TrainingRows,
) -> Vec<Option<Result<StepEffect, String>>> {
    let mut known = table.kinds();
    let mut stepped = table.take(training.rows);
    let mut event = training.event.to_vec();
    steps
        .iter()
        .map(|step| {
            if step.off {
                return None;
            }
            let before = known.clone();
            let done = step.action.check(&mut known).map_err(|e| e.to_string()).and_then(|_| {
                let (table, effect) = take(&step.action, &stepped, &mut event)?;
                stepped = table;
                Ok(effect)
            });
            if done.is_err() {
                known = before;
            }
            Some(done)
        })
        .collect()
}

fn take(action: &StepAction, table: &Table, event: &mut Vec<bool>) -> Result<(Table, StepEffect), String> {
    let rows: Vec<usize> = (0..table.rows()).collect();
    let all = rows.len();
    if let StepAction::Filter { condition } = action {
        let condition =
            Expression::check_condition(condition, &Expression::columns_of(table)).map_err(|e| e.to_string())?;
        let truth = condition.evaluate(table)?.values.into_column("kept");
        let kept: Vec<usize> = rows.into_iter().filter(|&row| truth.text(row).as_deref() == Some("yes")).collect();
        *event = kept.iter().map(|&row| event[row]).collect();
        let sentence = format!("keeps {} of {} customers", count(kept.len() as u64), count(all as u64));
        return Ok((table.take(&kept), StepEffect { sentence, before: None, after: None }));
    }
    if let StepAction::Sample { .. } = action {
        // The rows looked at are few already.
        let sentence = "before the split; the event rate stays as it is".to_owned();
        return Ok((table.clone(), StepEffect { sentence, before: None, after: None }));
    }
    let training = TrainingRows { rows: &rows, event, weight: None };
    let step = FittedStep::fit(action, table, &training).map_err(|e| e.to_string())?;
    let after = step.apply(table).map_err(|e| e.to_string())?;
    let changed = action.changes().or(match action {
        StepAction::Derive { name, .. } => Some(name.as_str()),
        _ => None,
    });
    let column = changed.and_then(|name| after.column(name));
    let old = changed.and_then(|name| table.column(name));
    let sentence = match (&step, column) {
        (FittedStep::Derive { expression, .. }, Some(column)) => {
            let undefined = expression.evaluate(table)?.undefined;
            let lost = if undefined > 0 {
                format!(", {} of them where it has no value", count(undefined))
            } else {
                String::new()
            };
            format!("{}; missing in {} rows{lost}", range(column), count(column.missing() as u64))
        }
        (FittedStep::Fill { value, .. }, _) => {
            let missing = old.map_or(0, Column::missing);
            let value = value.parse().map_or_else(|_| value.clone(), plain);
            format!("{} values ({}) become {value}", count(missing as u64), percent(missing as f64 / all.max(1) as f64))
        }
        (FittedStep::Cap { low, high, .. }, _) => {
            let outside = |c: &Column| rows.iter().filter_map(|&r| c.number(r)).filter(|x| x < low || x > high).count();
            format!("{} values are capped at {} – {}", count(old.map_or(0, outside) as u64), plain(*low), plain(*high))
        }
        (FittedStep::Log { .. }, Some(column)) => format!("skewness {}", skews(old, column)),
        (FittedStep::Power { lambda, .. }, Some(column)) => {
            format!("exponent {}; skewness {}", fixed(*lambda, 2), skews(old, column))
        }
        (FittedStep::AsCode { .. }, Some(column)) => {
            format!("{} different names made of digits", count(ColumnProfile::of(column).distinct))
        }
        (FittedStep::Encode { encoded, encoder, .. }, _) => {
            let by_value = encoded.values.iter();
            let ends =
                by_value.clone().min_by(|a, b| a.1.total_cmp(b.1)).zip(by_value.max_by(|a, b| a.1.total_cmp(b.1)));
            let write = |x: f64| match encoder {
                Encoder::TargetMean => percent(x),
                Encoder::WeightOfEvidence => fixed(x, 2),
            };
            ends.map_or_else(String::new, |(low, high)| {
                format!(
                    "{} values, from “{}” ({}) to “{}” ({}); a training row is encoded out of fold",
                    count(encoded.values.len() as u64),
                    low.0,
                    write(*low.1),
                    high.0,
                    write(*high.1)
                )
            })
        }
        (FittedStep::Ordered { order, .. }, Some(column)) => {
            let unknown = column.missing() - old.map_or(0, Column::missing).min(column.missing());
            format!("ranks 1 to {}; {} rows have a value that is not named", order.len(), count(unknown as u64))
        }
        (FittedStep::Standardise { mean, sd, .. }, _) => {
            format!("mean {} and standard deviation {} become 0 and 1", plain(*mean), plain(*sd))
        }
        (FittedStep::Bands { edges, .. }, _) => {
            let edges: Vec<String> = edges.iter().map(|&edge| plain(edge)).collect();
            format!("{} bins, up to {}", edges.len() + 1, edges.join(", "))
        }
        (FittedStep::GroupRare { kept, .. }, _) => {
            let distinct = old.map_or(0, |c| ColumnProfile::of(c).distinct);
            format!("{} of {} values stay; the others are grouped", count(kept.len() as u64), count(distinct))
        }
        _ => String::new(),
    };
    let effect = StepEffect {
        sentence,
        before: if matches!(action, StepAction::Derive { .. }) { None } else { old.map(ColumnProfile::of) },
        after: column.map(ColumnProfile::of),
    };
    Ok((after, effect))
}

/// The values of a column in a few words.
fn range(column: &Column) -> String {
    let profile = ColumnProfile::of(column);
    let write = |x: f64| {
        if column.kind == pronoia_data::Kind::Date { pronoia_data::table::written_date(x as i32) } else { plain(x) }
    };
    match &profile.numbers {
        Some(n) => format!("{} to {}, median {}", write(n.min), write(n.max), write(n.median)),
        None => profile.top.iter().take(3).map(|(v, n)| format!("{v} ({})", count(*n))).collect::<Vec<_>>().join(", "),
    }
}

fn skews(before: Option<&Column>, after: &Column) -> String {
    let before = before.map_or(f64::NAN, skewness);
    format!("{} → {}", fixed(before, 2), fixed(skewness(after), 2))
}

/// The third standardised moment; NaN for a constant.
fn skewness(column: &Column) -> f64 {
    let values: Vec<f64> = (0..column.len()).filter_map(|row| column.number(row)).collect();
    let n = values.len() as f64;
    let mean = values.iter().sum::<f64>() / n;
    let moment = |power: i32| values.iter().map(|x| (x - mean).powi(power)).sum::<f64>() / n;
    moment(3) / moment(2).powf(1.5)
}
