//! Prepare, what to be careful of: every caution with its evidence, its remedy, and why it was kept.

use actix_web::web;
use askama::Template;
use pronoia_core::cautions::{Caution, MISTAKES, Mistake, MistakeStatus};
use pronoia_core::study::CautionKind;
use pronoia_service::prepare::cautions::{AcceptCaution, ResolveCaution};
use pronoia_service::study_view::StudyView;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::prepare::PrepareViews;
use crate::pages::{PageResult, StudyPath, see_other};
use crate::session::Visitor;

#[derive(Template)]
#[template(path = "prepare/cautions.html")]
struct CautionsPage {
    frame: Frame,
    views: PrepareViews,
    base: String,
    prepare: String,
    heading: String,
    /// Whether anybody has looked yet.
    looked: bool,
    has_outcome: bool,
    open: Vec<Caution>,
    /// Kept ones with the reason.
    kept: Vec<(Caution, String)>,
    /// What was looked for, in a sentence.
    sought: String,
    /// What no records of such a question can tell.
    cannot_tell: Option<&'static str>,
    /// Every mistake, and what becomes of it.
    mistakes: Vec<MistakeLine>,
}

/// A mistake, and what becomes of it in this study.
struct MistakeLine {
    what: &'static str,
    answers: Vec<AnswerLine>,
}

struct AnswerLine {
    /// In a word or two.
    status: &'static str,
    /// How, or what was found.
    how: String,
    /// Where more is said of it.
    href: Option<String>,
    /// Whether something is to be decided.
    is_open: bool,
}

fn mistakes(study: &StudyView) -> Vec<MistakeLine> {
    let line = |mistake: &Mistake| MistakeLine {
        what: mistake.what,
        answers: mistake.answers.iter().map(|answer| answered(study, answer)).collect(),
    };
    MISTAKES.iter().map(line).collect()
}

fn answered(study: &StudyView, answer: &MistakeStatus) -> AnswerLine {
    let line = |status, how: String, href| AnswerLine { status, how, href, is_open: false };
    match *answer {
        MistakeStatus::CannotBe(how) => line("cannot be", how.into(), None),
        MistakeStatus::SaidAt(stop, how) => line(
            "stated where it matters",
            format!("{}: {how}", stop.word()),
            Some(study.href(&stop.word().to_lowercase())),
        ),
        MistakeStatus::Raised(rule) => {
            let found: Vec<&Caution> = study.cautions().filter(|caution| caution.rule == rule).collect();
            let open = study.open_cautions().filter(|caution| caution.rule == rule).count();
            let names = || found.iter().map(|caution| caution.about.as_str()).collect::<Vec<_>>().join(", ");
            match (study.finding.is_some(), found.len()) {
                (false, _) => line("not checked yet", rule.sought().into(), None),
                (true, 0) => line("not found", rule.sought().into(), None),
                (true, _) if open == 0 => line("accepted", names(), None),
                (true, _) => AnswerLine { is_open: true, ..line("found", names(), None) },
            }
        }
    }
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor, path: web::Path<StudyPath>) -> PageResult {
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let frame = Frame::of_study(&app, &visitor, &study, 3).await?;
    let open: Vec<Caution> = study.open_cautions().cloned().collect();
    let kept: Vec<(Caution, String)> =
        study.cautions().filter_map(|c| Some((c.clone(), c.kept(&study.state)?.to_owned()))).collect();
    let looked = study.finding.is_some();
    let heading = match open.len() {
        _ if !looked => "The rows are not checked yet.".to_owned(),
        0 if kept.is_empty() => "No caution raised.".to_owned(),
        0 => "No open cautions.".to_owned(),
        1 => "1 open caution: could bias the results.".to_owned(),
        n => format!("{n} open cautions: could bias the results."),
    };
    html(&CautionsPage {
        views: PrepareViews::of(&study, "cautions"),
        base: study.href("prepare/cautions"),
        prepare: study.href("prepare"),
        has_outcome: study.state.outcome.is_some(),
        heading,
        looked,
        cannot_tell: study.study.kind().cannot_tell(),
        mistakes: mistakes(&study),
        sought: CautionKind::ALL.map(CautionKind::sought).join("; "),
        open,
        kept,
        frame,
    })
}

/// Which caution, and what is done about it.
#[derive(Deserialize)]
pub struct CautionForm {
    csrf: String,
    rule: String,
    about: String,
    /// Why it is kept; the remedy is taken without it.
    because: Option<String>,
}

/// Takes the remedy of a caution, or keeps what it is about, for a reason.
pub async fn decide(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<CautionForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let CautionForm { rule, about, because, .. } = form.into_inner();
    match because {
        Some(because) => app.perform(visitor.actor(), AcceptCaution { study: path.id, rule, about, because }).await?,
        None => app.perform(visitor.actor(), ResolveCaution { study: path.id, rule, about }).await?,
    }
    see_other(&format!("/studies/{}/prepare/cautions", path.id))
}
