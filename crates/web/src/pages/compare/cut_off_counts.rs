//! The counts of one candidate at one cut-off, on each part of the rows.

use pronoia_core::decide::Ranking;
use pronoia_store::model;

use pronoia_service::ServiceError;
use pronoia_service::jobs::Confirmation;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;

/// One part of the rows.
pub struct PartLine {
    /// What the rows are to the candidate.
    pub name: String,
    /// What is to be known of the figures.
    pub remark: &'static str,
    /// Customers, acted on, rightly, rightly of 100 acted on, found of 100 events;
    /// none while the part is sealed.
    pub figures: Option<[String; 5]>,
}

/// Training rows, the rows judged, and the sealed test as far as it was opened for
/// this candidate.
pub fn parts(
    view: &StudyView,
    row: &model::Model,
    judged: &Ranking,
    cut_off: f64,
) -> Result<Vec<PartLine>, ServiceError> {
    let mut lines = Vec::new();
    if let Some(training) = row.ranked_training()? {
        lines.push(PartLine {
            name: "training".into(),
            remark: "fitted to these rows: optimistic",
            figures: Some(figures(&training, cut_off)),
        });
    }
    lines.push(PartLine {
        name: row.fitted_on()?.split.judged_on().to_owned(),
        remark: "out-of-fold predictions",
        figures: Some(figures(judged, cut_off)),
    });
    let opened = view.study.confirmation.clone().map(serde_json::from_value::<Confirmation>).transpose();
    let opened = opened.map_err(pronoia_store::StoreError::from)?.filter(|c| c.chosen.model_id == row.id);
    let test = opened.and_then(|confirmation| confirmation.ranking);
    lines.push(match test {
        Some(test) => PartLine {
            name: "sealed test".into(),
            remark: "opened to confirm the policy",
            figures: Some(figures(&test, cut_off)),
        },
        None => PartLine { name: "sealed test".into(), remark: "opened at Decide, to confirm a policy", figures: None },
    });
    Ok(lines)
}

fn figures(ranking: &Ranking, cut_off: f64) -> [String; 5] {
    let counts = ranking.confusion(ranking.position_of(cut_off));
    [
        text::count(counts.rows()),
        text::count(counts.acted()),
        text::count(counts.hits),
        text::fixed(counts.precision() * 100.0, 0),
        text::fixed(counts.recall() * 100.0, 0),
    ]
}
