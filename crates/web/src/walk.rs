//! A walk through the demonstration, in ten steps that can be left at any time.

use actix_web::cookie::{Cookie, SameSite};
use actix_web::{HttpRequest, HttpResponse, web};
use pronoia_core::question::Question;
use pronoia_service::ServiceError;
use serde::Deserialize;

use crate::error::PageResult;
use crate::session::Visitor;
use crate::{App, Config};

/// Name of the cookie that remembers the step; 0 once the walk was left.
pub const COOKIE: &str = "pronoia_walk";

/// A step: its page, below the study where it does not begin with a slash, and what there is to see.
const STEPS: [(&str, &str); 10] = [
    (
        "/",
        "Each question is listed with its event rate and the expected profit of its policy. The next step opens the one about renewals.",
    ),
    (
        "records",
        "24 000 members, as exported by their system. Open a column to see its distribution; “Unusual rows” lists possible outliers.",
    ),
    (
        "drivers",
        "Event rates of cancelling, column by column on one scale. Open a rate ladder, then look at the interactions of two columns.",
    ),
    (
        "prepare/cautions",
        "Cautions. One is open: a discount is a proxy for age. Resolve it, or accept it with a reason; below is how every known mistake is handled.",
    ),
    (
        "train",
        "Candidates of several families are fitted. Open the scorecard to see its points; change a hyperparameter, and fit another one.",
    ),
    ("compare", "Expected profit first, on validation customers. Tick two candidates to test their difference."),
    (
        "decide",
        "Each mark is one of a thousand customers. Move the cut-off with the mouse, or with the keys “,” and “.”, and watch the expected profit.",
    ),
    (
        "decide/customer",
        "The contributions to one customer’s score, column by column. Change a value, and watch the predicted probability and the action.",
    ),
    (
        "lists",
        "A list of renewals is scored: whom to act on, and the expected profit. Open it, and the campaign drawn from it.",
    ),
    (
        "live",
        "The policy is released to other programs, and monitored. That was the tour: the ledger on the right records every choice with its figure, and can undo it.",
    ),
];

/// The walk as it stands on a page.
pub struct Walk {
    /// The step, the first being 1; 0 before it was begun.
    pub at: u8,
    /// What there is to see.
    pub says: &'static str,
    /// Where that is.
    pub href: String,
    /// How many steps there are.
    pub steps: u8,
}

impl Walk {
    /// The walk for whoever looks at a made-up workspace and did not leave it.
    pub async fn of(app: &App, visitor: &Visitor) -> Result<Option<Self>, ServiceError> {
        let at = visitor.walk();
        if !visitor.0.workspace.made_up || at == Some(0) {
            return Ok(None);
        }
        let steps = STEPS.len() as u8;
        let Some(at) = at else {
            return Ok(Some(Self { at: 0, says: "", href: "/".into(), steps }));
        };
        let Some((_, says)) = STEPS.get(usize::from(at) - 1) else { return Ok(None) };
        Ok(address(app, visitor, at).await?.map(|href| Self { at, says, href, steps }))
    }
}

/// The address of a step; none if what it shows is not there any more.
async fn address(app: &App, visitor: &Visitor, at: u8) -> Result<Option<String>, ServiceError> {
    let Some((page, _)) = usize::from(at).checked_sub(1).and_then(|at| STEPS.get(at)) else { return Ok(None) };
    if page.starts_with('/') {
        return Ok(Some((*page).to_owned()));
    }
    let studies = app.store.studies(visitor.workspace_id()).await?;
    let study = studies.into_iter().find(|study| study.kind() == Question::Churn);
    Ok(study.map(|study| format!("/studies/{}/{page}", study.id)))
}

/// The step to go to; 0 leaves.
#[derive(Deserialize)]
pub struct Go {
    csrf: String,
    step: u8,
}

/// Goes to a step, or leaves the walk.
pub async fn go(
    app: web::Data<App>,
    config: web::Data<Config>,
    visitor: Visitor,
    request: HttpRequest,
    form: web::Form<Go>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let address = address(&app, &visitor, form.step).await?;
    let to = match address {
        Some(address) => address,
        None => crate::pages::came_from(&request),
    };
    let step = if usize::from(form.step) <= STEPS.len() { form.step } else { 0 };
    let cookie = Cookie::build(COOKIE, step.to_string()).path("/").http_only(true).same_site(SameSite::Lax);
    let cookie = cookie.secure(config.behind_tls).permanent().finish();
    Ok(HttpResponse::SeeOther().insert_header(("Location", to)).cookie(cookie).finish())
}
