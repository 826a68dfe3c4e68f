//! Data, exclusions, preparation.

use std::collections::HashMap;

use pronoia_core::balance::BalanceMethod;
use pronoia_core::prepare::StepAction;
use pronoia_core::sentence::capital;
use pronoia_core::study::{ColumnChoice, ColumnRole};
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;

use crate::App;
use crate::pages::live::statement::Section;

pub async fn sections(app: &App, view: &StudyView) -> Result<Vec<Section>, ServiceError> {
    let meanings = app.store.meanings(view.study.workspace_id, &view.table.name).await?;
    Ok(vec![data(view, &meanings)?, exclusions(view), preparation(view)])
}

fn data(view: &StudyView, meanings: &HashMap<String, String>) -> Result<Section, ServiceError> {
    let table = &view.table;
    let stored = table.stored_columns()?;
    let source = table.came_from()?;
    let rejected = match source.rejected {
        0 => String::new(),
        n => format!(
            " {} not be read and {} not in it.",
            text::counted(n as usize, "row could", "rows could"),
            if n == 1 { "is" } else { "are" }
        ),
    };
    let kind =
        |name: &str| stored.iter().find(|column| column.name == name).map_or(String::new(), |c| c.kind.to_string());
    let is_described = view.state.columns.iter().any(|choice| meanings.contains_key(&choice.name));
    let line = |choice: &ColumnChoice| {
        let mut cells = vec![
            choice.name.clone(),
            kind(&choice.name),
            choice.role.word().to_owned(),
            choice.known_when.word().to_owned(),
        ];
        if is_described {
            cells.push(meanings.get(&choice.name).cloned().unwrap_or_default());
        }
        cells
    };
    let mut head = vec!["column", "kind", "role", "known when"];
    if is_described {
        head.push("meaning");
    }
    let used = view.state.columns.iter().filter(|choice| choice.role != ColumnRole::LeftOut);
    Ok(Section::new("Data")
        .says(format!(
            "{}, version {}: {} customers, {} columns. {}.{rejected}",
            table.name,
            table.version,
            text::count_of(table.rows),
            stored.len(),
            capital(source.sentence.trim_end_matches('.'))
        ))
        .table(head, used.map(line).collect(), 5))
}

fn exclusions(view: &StudyView) -> Section {
    let out = view.state.columns.iter().filter(|choice| choice.role == ColumnRole::LeftOut);
    let rows = out.map(|choice| vec![choice.name.clone(), choice.reason.clone()]).collect::<Vec<_>>();
    let filters = view.state.steps.iter().filter(|step| !step.off).filter_map(|step| match &step.action {
        StepAction::Filter { .. } | StepAction::Sample { .. } => Some(step.action.words()),
        _ => None,
    });
    let filters: Vec<String> = filters.collect();
    let section = Section::new("Exclusions");
    let section = match (rows.is_empty(), filters.is_empty()) {
        (true, true) => section.says("No column is excluded."),
        (_, true) => section.says("All customers whose outcome is known take part."),
        (_, false) => section.says("Customers take part as follows:").lists(filters),
    };
    section.table(vec!["excluded column", "because"], rows, 2)
}

fn preparation(view: &StudyView) -> Section {
    let steps = view.state.steps.iter().filter(|step| !step.off);
    let steps = steps.filter(|step| !matches!(step.action, StepAction::Filter { .. } | StepAction::Sample { .. }));
    let steps: Vec<String> = steps.map(|step| step.action.words()).collect();
    let balance = match view.state.balance.method {
        BalanceMethod::AsTheyAre => String::new(),
        method => format!(
            "While models are fitted the training rows are balanced ({}); probabilities are calibrated on rows as they were.",
            method.description().to_lowercase()
        ),
    };
    let section = Section::new("Preparation").says(view.state.split.sentence());
    let section = match steps.is_empty() {
        true => section.says("Columns are used as they are."),
        false => section.says("Steps, learned from training rows only and carried with the model:").lists(steps),
    };
    section.says(balance)
}
