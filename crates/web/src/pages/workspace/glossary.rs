//! The glossary: every term of the pages, with its meaning and its source.

use actix_web::web;
use askama::Template;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::glossary::{TERMS, Term};
use crate::pages::PageResult;
use crate::session::Visitor;

#[derive(Template)]
#[template(path = "workspace/glossary.html")]
struct GlossaryPage {
    frame: Frame,
    terms: &'static [Term],
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor) -> PageResult {
    html(&GlossaryPage { frame: Frame::plain(&app, &visitor).await?, terms: TERMS })
}
