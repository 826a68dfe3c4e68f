//! What the policy would be worth without the sensitive attributes and what stands in for them.

use actix_web::web;
use pronoia_core::decide::GroupDecision;
use pronoia_core::study::CautionKind;
use pronoia_core::study::ColumnRole;
use pronoia_core::validation::Without;
use pronoia_service::ServiceError;
use pronoia_service::study_view::{StudyView, decide_alike, whom};
use pronoia_service::text;
use pronoia_store::jobs::Work;

use super::groups::ratio_said;
use crate::App;
use crate::pages::{PageResult, Signed, StudyPath, ask_once, is_asked, see_other};
use crate::session::Visitor;

/// What is known of it.
pub struct WithoutView {
    /// The columns in question, in words.
    pub columns: String,
    pub looking: bool,
    pub found: Option<FoundView>,
}

/// What came of leaving them out.
pub struct FoundView {
    pub finding: String,
    pub remark: String,
    /// Whether it is of another policy, or other columns, than there are now.
    pub stale: bool,
    /// Group, share acted on, and how often compared with others.
    pub groups: Vec<(String, Vec<[String; 4]>)>,
}

impl WithoutView {
    /// Whether there is anything to look for that is not known.
    pub fn asks(&self) -> bool {
        self.found.as_ref().is_none_or(|found| found.stale)
    }

    /// None where no column that goes in is sensitive or stands in for one that is.
    pub async fn of(app: &App, view: &StudyView) -> Result<Option<Self>, ServiceError> {
        let columns = in_question(view)?;
        let (Some((chosen, model)), false) = (view.policy_model(), columns.is_empty()) else { return Ok(None) };
        let work = Work::Without { model: model.id, columns: columns.clone() };
        let looking = is_asked(app, &view.study, &work).await?;
        let found = app.store.tried_without(model.id).await?;
        let found = found.map(|found| {
            let same = found.columns == columns && decide_alike(&found.chosen, chosen);
            FoundView::of(&found, !same)
        });
        Ok(Some(Self { columns: text::listed(&columns), looking, found }))
    }
}

/// Columns that go into the policy's model and are sensitive, or stand in for what is.
fn in_question(view: &StudyView) -> Result<Vec<String>, ServiceError> {
    let Some((_, model)) = view.policy_model() else { return Ok(Vec::new()) };
    let sensitive = view.state.columns.iter().filter(|c| c.role == ColumnRole::Sensitive).map(|c| &c.name);
    let stand_ins =
        view.cautions().filter(|caution| caution.rule == CautionKind::StandIn).map(|caution| &caution.about);
    let predictors = &model.fitted_on()?.predictors;
    let mut columns: Vec<String> =
        sensitive.chain(stand_ins).filter(|name| predictors.contains(name)).cloned().collect();
    columns.sort();
    columns.dedup();
    Ok(columns)
}

impl FoundView {
    fn of(found: &Without, stale: bool) -> Self {
        let less = found.less;
        let whom = whom(&found.chosen.population, &found.chosen.currency);
        let columns = text::listed(&found.columns);
        let (less_or_more, [sum, low, high]) = match less.profit < 0.0 {
            true => ("more", [-less.profit, -less.high, -less.low]),
            false => ("less", [less.profit, less.low, less.high]),
        };
        let sum = text::money(sum);
        let range = format!("90 % CI {} to {}", text::money(low), text::money(high));
        let finding = if less.low == 0.0 && less.high == 0.0 {
            format!("Ablation: without {columns} the decisions are exactly the same.")
        } else if less.low > 0.0 || less.high < 0.0 {
            format!("Ablation: without {columns} the expected profit is {sum} {whom} {less_or_more} ({range}).")
        } else {
            format!(
                "Ablation: without {columns} the expected profit is {sum} {whom} {less_or_more}, not significant ({range})."
            )
        };
        let area = found.less_area.map_or(String::new(), |area| {
            let (low, high) = area.interval();
            format!(
                " AUC (ROC): {} less (95 % CI {} to {}).",
                text::fixed(area.value, 4),
                text::fixed(low, 4),
                text::fixed(high, 4)
            )
        });
        let groups = found.groups.iter().map(|(column, groups)| (column.clone(), groups.iter().map(line).collect()));
        Self {
            finding,
            remark: format!(
                "The model was fitted again without them, and the same rule applied to the same evaluation customers.{area}"
            ),
            stale,
            groups: groups.collect(),
        }
    }
}

fn line(group: &GroupDecision) -> [String; 4] {
    let (ratio, interval) = ratio_said(group);
    [group.label.clone(), text::percent(group.acted.rate()), ratio, interval]
}

/// Asks for it.
pub async fn begin(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let columns = in_question(&view)?;
    let (Some((_, model)), false) = (view.policy_model(), columns.is_empty()) else {
        return Err(ServiceError::Refused(
            "No predictor of the policy’s model is sensitive, or a proxy for a sensitive column.".into(),
        )
        .into());
    };
    let title = format!("Deciding without {}", text::listed(&columns));
    let work = Work::Without { model: model.id, columns };
    ask_once(&app, &view.study, &title, &work).await?;
    see_other(&format!("{}#without", view.href("decide/groups")))
}
