//! Method and results.

use pronoia_core::evaluate::Evaluation;
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;

use crate::App;
use crate::pages::live::statement::Section;
use crate::pages::train::detail::CandidateDetail;

pub async fn sections(app: &App, view: &StudyView) -> Result<Vec<Section>, ServiceError> {
    let chosen = match view.policy_model() {
        Some((_, model)) => Some(model),
        None => view.best()?,
    };
    let Some(chosen) = chosen else {
        return Ok(vec![Section::new("Method").says("No model is fitted yet.")]);
    };
    let row = app.store.model(chosen.id).await?;
    let detail = CandidateDetail::of(&row)?;
    let others = view.fitted().filter(|model| model.id != chosen.id).count();
    let among = match others {
        0 => "No other candidate was fitted.".to_owned(),
        n => format!("Other candidates: {}.", text::counted(n, "other candidate", "other candidates")),
    };
    let method = Section::new("Method")
        .says(format!("{}: {}", detail.name, detail.sentence))
        .says(detail.calibrated.unwrap_or_default())
        .says(format!("{among} {}", detail.made_from))
        .says(detail.proof.unwrap_or_default());
    let judged_on = row.fitted_on()?.split.judged_on();
    let results = match row.judged()? {
        None => Section::new("Results").warns("The model was never evaluated on customers that it was not fitted to."),
        Some(judged) => results(&judged, judged_on),
    };
    Ok(vec![method, results])
}

fn results(judged: &Evaluation, judged_on: &str) -> Section {
    let area = match judged.area() {
        Some(area) => {
            let (low, high) = area.interval();
            format!("{} ({}–{})", text::fixed(area.value, 3), text::fixed(low, 3), text::fixed(high, 3))
        }
        None => text::fixed(judged.area_under_roc, 3),
    };
    let line = |name: &str, value: String, meaning: String| vec![name.to_owned(), meaning, value];
    let rows = vec![
        line(
            "AUC (ROC)",
            area,
            "probability that a customer with the event is ranked above one without; 95 % CI (DeLong)".into(),
        ),
        line(
            "average precision",
            text::fixed(judged.average_precision, 3),
            format!(
                "area under precision over recall; {} by chance",
                text::fixed(judged.events as f64 / judged.rows.max(1) as f64, 3)
            ),
        ),
        line("log loss", text::fixed(judged.log_loss, 4), "mean negative log-likelihood, natural logarithm".into()),
        line(
            "Brier score",
            text::fixed(judged.brier, 4),
            "mean squared difference between probability and outcome".into(),
        ),
        line(
            "mean probability",
            text::percent(judged.mean_probability),
            format!("{} had the event", text::percent(judged.events as f64 / judged.rows.max(1) as f64)),
        ),
    ];
    let groups = judged.calibration.iter().map(|group| {
        vec![
            text::percent(group.mean_probability),
            text::percent(group.events as f64 / group.rows.max(1) as f64),
            text::count(group.rows),
        ]
    });
    Section::new("Results")
        .says(format!(
            "On {} {judged_on} customers that the model was not fitted to, {} of them with the event.",
            text::count(judged.rows),
            text::count(judged.events)
        ))
        .table(vec!["measure", "what it is", "value"], rows, 2)
        .table(vec!["said", "happened", "customers"], groups.collect(), 0)
}
