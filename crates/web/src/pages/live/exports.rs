//! A model in the forms that other programs compute with.

use actix_web::{HttpResponse, web};
use askama::Template;
use pronoia_core::Table;
use pronoia_core::export::{ExportForm, FormulaCheck, ModelFormula, Refusal};
use pronoia_core::model::Model;
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use pronoia_store::candidates::StoredCandidate;
use pronoia_store::model;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, StudyPath};
use crate::session::Visitor;

/// Customers on whom a formula is compared with its model.
const COMPARED: i64 = 1_000;

#[derive(Template)]
#[template(path = "live/exports.html")]
struct ExportsPage {
    frame: Frame,
    train: String,
    heading: String,
    /// What was found when the formula was compared, or why there is none.
    finding: String,
    refused: bool,
    /// The fitted candidates, to choose another: key, name, whether it is this one.
    models: Vec<(i64, String, bool)>,
    base: String,
    forms: Vec<FormLine>,
}

/// A form, and what came of writing the model in it.
struct FormLine {
    word: &'static str,
    title: &'static str,
    about: &'static str,
    /// Size and notes, or why it cannot be.
    written: Result<(String, Vec<String>), String>,
    href: String,
}

/// What came of writing a model in every form.
#[derive(Debug)]
pub struct ExportOutcome {
    checked: Result<FormulaCheck, Refusal>,
    /// Bytes and notes of each form, in their order.
    forms: Vec<Result<(u64, Vec<String>), Refusal>>,
}

/// Which model; without one the policy's.
#[derive(Deserialize)]
pub struct ExportQuery {
    model: Option<i64>,
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    asked: web::Query<ExportQuery>,
) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let chosen = chosen(&view, asked.model)?;
    let models = view.fitted().map(|m| (m.id, m.name.clone(), chosen.is_some_and(|c| c.id == m.id))).collect();
    let (heading, finding, refused, forms) = match chosen {
        None => ("There is no model yet.".to_owned(), String::new(), false, Vec::new()),
        Some(chosen) => {
            let from = format!("exports of {}", chosen.id);
            let carried = match app.view::<ExportOutcome>(&from) {
                Some(kept) => kept,
                None => {
                    let written = carried(&app, &view, &app.store.model(chosen.id).await?).await?;
                    app.keep_view(from, written)
                }
            };
            let (finding, refused) = found(&carried.checked);
            let mut told: Vec<&String> = Vec::new();
            let lines = ExportForm::ALL.into_iter().zip(&carried.forms).map(|(form, written)| FormLine {
                word: form.word(),
                title: form.title(),
                about: form.about(),
                written: match written {
                    Ok((bytes, notes)) => {
                        // What was told of one form holds for the next ones, too.
                        let news: Vec<&String> = notes.iter().filter(|note| !told.contains(note)).collect();
                        told.extend(&news);
                        Ok((text::bytes(*bytes), news.into_iter().cloned().collect()))
                    }
                    Err(refusal) => Err(refusal.to_string()),
                },
                href: format!("{}/{}?model={}", view.href("forms"), form.word(), chosen.id),
            });
            (format!("{}, for other programs to compute.", chosen.name), finding, refused, lines.collect())
        }
    };
    html(&ExportsPage {
        train: view.href("train"),
        base: view.href("forms"),
        frame: Frame::of_study(&app, &visitor, &view, 8).await?,
        heading,
        finding,
        refused,
        models,
        forms,
    })
}

/// The model asked for, or the policy's, or the best.
fn chosen(view: &StudyView, asked: Option<i64>) -> Result<Option<&StoredCandidate>, ServiceError> {
    match asked {
        Some(id) => {
            let policy = view.policy_model().map(|(_, model)| model);
            let found = view.fitted().chain(policy).find(|model| model.id == id);
            found.map(Some).ok_or(ServiceError::NotFound)
        }
        None => match view.policy_model() {
            Some((_, model)) => Ok(Some(model)),
            None => view.best(),
        },
    }
}

/// How the comparison came out, in a sentence; and whether there is no formula at all.
fn found(checked: &Result<FormulaCheck, Refusal>) -> (String, bool) {
    match checked {
        Err(refusal) => (refusal.to_string(), true),
        Ok(FormulaCheck { rows, difference }) => {
            let agreement = match *difference {
                // Doubles hold about so many.
                d if d < 1e-15 => "to double precision".to_owned(),
                d => format!("to {} decimal places", (-d.log10()).floor()),
            };
            let customers = text::counted(*rows, "customer", "customers");
            (
                format!(
                    "Steps, encodings, classifier and calibration as one formula; on {customers} of the records it reproduces the predicted probabilities {agreement}. All forms below are written from it."
                ),
                false,
            )
        }
    }
}

/// Some customers of the records that a model was fitted to, with what it reads of them.
async fn customers(app: &App, view: &StudyView, row: &model::Model, model: &Model) -> Result<Table, ServiceError> {
    let basis = row.fitted_on()?;
    let table = app.store.table(view.study.workspace_id, view.study.records(basis.table)).await?;
    let names: Vec<String> = model.inputs().map(|input| input.name.clone()).collect();
    let nth = (table.rows / COMPARED).max(1) as u64;
    Ok(app.store.every_nth(&table, &names, nth).await?)
}

async fn carried(app: &App, view: &StudyView, row: &model::Model) -> Result<ExportOutcome, ServiceError> {
    let model = row.fitted()?;
    let table = customers(app, view, row, &model).await?;
    let worked_out = web::block(move || {
        let refused = |refusal: &Refusal| ExportForm::ALL.map(|_| Err(refusal.clone())).to_vec();
        let formula = match ModelFormula::of(&model) {
            Ok(formula) => formula,
            Err(refusal) => return ExportOutcome { forms: refused(&refusal), checked: Err(refusal) },
        };
        let checked = formula.checked(&model, &table);
        if let Err(refusal) = &checked {
            return ExportOutcome { forms: refused(refusal), checked };
        }
        let written =
            |form: ExportForm| form.write(&formula).map(|written| (written.bytes.len() as u64, written.notes));
        ExportOutcome { checked, forms: ExportForm::ALL.map(written).to_vec() }
    });
    worked_out.await.map_err(|e| ServiceError::Refused(format!("The forms could not be written: {e}.")))
}

/// The keys in the address of a file.
#[derive(Deserialize)]
pub struct FormPath {
    id: i64,
    form: String,
}

/// The file.
pub async fn take(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<FormPath>,
    asked: web::Query<ExportQuery>,
) -> PageResult {
    let form: ExportForm = path.form.parse().map_err(|_| ServiceError::NotFound)?;
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let row = app.store.model(chosen(&view, asked.model)?.ok_or(ServiceError::NotFound)?.id).await?;
    let model = row.fitted()?;
    let table = customers(&app, &view, &row, &model).await?;
    let written = web::block(move || {
        let formula = ModelFormula::of(&model)?;
        formula.checked(&model, &table)?;
        form.write(&formula)
    });
    let written = written
        .await
        .map_err(|e| ServiceError::Refused(format!("The file could not be written: {e}.")))?
        .map_err(|refusal| ServiceError::Refused(refusal.to_string()))?;
    app.store
        .note(path.id, Some(visitor.account_id()), &format!("Model written as {}", form.title()), &row.name)
        .await?;
    let plain = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' };
    let name: String = row.name.chars().map(plain).collect();
    let disposition = format!("attachment; filename=\"{}.{}\"", name.trim_matches('-'), form.ending());
    Ok(HttpResponse::Ok()
        .content_type(form.media_type())
        .insert_header(("Content-Disposition", disposition))
        .body(written.bytes))
}
