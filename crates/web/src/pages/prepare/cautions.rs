//! Prepare, what to be careful of: every caution with its evidence, its remedy, and why it was kept.

use actix_web::web;
use askama::Template;
use pronoia_core::cautions::{Caution, MISTAKES, Mistake, MistakeStatus, Remedy};
use pronoia_core::learn::Settings;
use pronoia_core::model::Recipe;
use pronoia_core::study::Outcome;
use pronoia_core::study::{AcceptedCaution, CautionKind};
use pronoia_store::studies::Choice;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::prepare::PrepareViews;
use crate::pages::{PageResult, StudyPath, see_other};
use crate::session::Visitor;
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;

/// The longest reason for keeping something, in characters.
const LONGEST_REASON: usize = 300;

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
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let rule: CautionKind = form.rule.parse().map_err(ServiceError::Refused)?;
    let caution = study.open_cautions().find(|c| c.rule == rule && c.about == form.about);
    let caution = caution.cloned().ok_or_else(|| {
        ServiceError::Refused(
            "This caution is no longer raised: it was resolved or accepted in the meantime, or the choices changed."
                .into(),
        )
    })?;
    match &form.because {
        Some(because) => keep(&app, &visitor, &study, &caution, because.trim()).await?,
        None => mend(&app, &visitor, &study, &caution).await?,
    }
    see_other(&study.href("prepare/cautions"))
}

async fn keep(
    app: &App,
    visitor: &Visitor,
    study: &StudyView,
    caution: &Caution,
    because: &str,
) -> Result<(), ServiceError> {
    if because.is_empty() || because.chars().count() > LONGEST_REASON {
        return Err(ServiceError::Refused(format!(
            "Give a reason of at most {LONGEST_REASON} letters why it is right as it is; it is entered in the ledger."
        )));
    }
    let mut state = study.state.clone();
    state.kept.push(AcceptedCaution { rule: caution.rule, about: caution.about.clone(), because: because.to_owned() });
    let chosen = format!("Accepted: {}", lower(&caution.heading));
    let choice = Choice { by: visitor.author(), chosen, figure: format!("because {because}") };
    crate::pages::choose(app, &study.study, &state, &choice).await
}

async fn mend(app: &App, visitor: &Visitor, study: &StudyView, caution: &Caution) -> Result<(), ServiceError> {
    let (workspace, by) = (visitor.workspace_id(), visitor.author());
    if let (Remedy::OtherEvent { event }, Some(outcome)) = (&caution.remedy, &study.state.outcome) {
        let outcome = Outcome { window: outcome.window.clone(), ..Outcome::is(&outcome.column, event) };
        crate::pages::prepare::outcome::enter_outcome(app, workspace, by, study.study.id, outcome).await?;
    } else if matches!(caution.remedy, Remedy::Calibrate | Remedy::FitForest | Remedy::Retire) {
        mend_candidate(app, study, caution).await?;
        app.store.note(study.study.id, Some(by.account_id), &caution.remedy.words(), &caution.heading).await?;
    } else {
        let mut state = study.state.clone();
        caution.remedy.apply(&mut state);
        crate::pages::prepare::split::check(app, study, &state).await?;
        let chosen = format!("{}: {}", caution.remedy.words(), caution.about);
        let choice = Choice { by, chosen, figure: caution.heading.clone() };
        crate::pages::choose(app, &study.study, &state, &choice).await?;
    }
    Ok(())
}

/// Mends what is wrong with a candidate, which is no choice but work.
async fn mend_candidate(app: &App, study: &StudyView, caution: &Caution) -> Result<(), ServiceError> {
    let model = study.fitted().find(|m| m.name == caution.about).ok_or(ServiceError::NotFound)?;
    match (&caution.remedy, model.recipe()?) {
        (Remedy::Calibrate, Recipe::One(calibrated)) => {
            crate::pages::train::fit_again(app, study, model, &Recipe::Calibrated { calibrated }).await
        }
        (Remedy::FitForest, _) => {
            let forest = Settings::of_family("forest").ok_or(ServiceError::NotFound)?;
            crate::pages::train::fit_beside(app, study, &forest.into()).await.map(drop)
        }
        _ => Ok(app.store.retire_model(model.id).await?),
    }
}

/// A heading within a sentence; names of columns stay as they are written.
fn lower(heading: &str) -> String {
    if heading.starts_with("The ") { heading.replacen("The ", "the ", 1) } else { heading.to_owned() }
}
