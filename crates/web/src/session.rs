//! Who is looking.

use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::Payload;
use actix_web::{FromRequest, HttpMessage, HttpRequest, web};
use pronoia_service::Actor;
use pronoia_store::accounts::SignedIn;
use pronoia_store::member_role::MemberRole;
use std::cell::Cell;
use std::future::Future;
use std::pin::Pin;

use crate::error::PageError;
use crate::walk;
use crate::{App, Config};

/// Name of the cookie that holds the session's token.
pub const COOKIE: &str = "pronoia_session";

/// A signed-in visitor; a handler that takes one cannot be reached by strangers.
#[derive(Debug, Clone)]
pub struct Visitor(pub SignedIn, VisitorContext);

/// What else came with a request.
#[derive(Debug, Clone, Default)]
struct VisitorContext {
    /// The revision of the study on the page that a form stands on.
    revision: Cell<Option<i64>>,
    /// The step of the walk through the demonstration; 0 once it was left.
    walk: Option<u8>,
}

impl Visitor {
    fn of(signed_in: SignedIn, request: &HttpRequest) -> Self {
        let walk = request.cookie(walk::COOKIE).and_then(|cookie| cookie.value().parse().ok());
        Self(signed_in, VisitorContext { walk, ..VisitorContext::default() })
    }

    /// The step of the walk through the demonstration; 0 once it was left, none before it was begun.
    pub fn walk(&self) -> Option<u8> {
        self.1.walk
    }

    /// Refuses a form that does not come from a page of this session.
    pub fn check(&self, csrf: &str) -> Result<(), PageError> {
        // On pages of a study its revision stands behind the proof.
        let (csrf, seen) = csrf.split_once('.').unwrap_or((csrf, ""));
        self.1.revision.set(seen.parse().ok());
        // Equal lengths are compared whole, so that time tells nothing.
        let right = self.0.csrf.as_bytes();
        let differs = right.iter().zip(csrf.as_bytes()).fold(0, |d, (a, b)| d | (a ^ b));
        if csrf.len() == right.len() && differs == 0 { Ok(()) } else { Err(PageError::Forged) }
    }

    /// The workspace that everything is looked up in.
    pub fn workspace_id(&self) -> i64 {
        self.0.workspace.id
    }

    /// Whether they do the work here, and do not only look at it.
    pub fn does_work(&self) -> bool {
        self.0.role >= MemberRole::Analyst
    }

    /// Whether they say who may do what here.
    pub fn is_owner(&self) -> bool {
        self.0.role == MemberRole::Owner
    }

    /// Who acts.
    pub fn actor(&self) -> Actor {
        Actor {
            workspace: self.workspace_id(),
            account: self.account_id(),
            role: self.0.role,
            seen: self.1.revision.get(),
        }
    }

    /// The account that choices are entered for.
    pub fn account_id(&self) -> i64 {
        self.0.account.id
    }
}

impl FromRequest for Visitor {
    type Error = PageError;
    type Future = Pin<Box<dyn Future<Output = Result<Self, PageError>>>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        // Wherever somebody has to be signed in, they were let in already.
        if let Some(signed_in) = request.extensions().get::<SignedIn>() {
            return Box::pin(std::future::ready(Ok(Self::of(signed_in.clone(), request))));
        }
        let token = request.cookie(COOKIE).map(|c| c.value().to_owned());
        let request = request.clone();
        let app = request.app_data::<web::Data<App>>().cloned();
        Box::pin(async move {
            let (Some(token), Some(app)) = (token, app) else { return Err(PageError::SignedOut) };
            app.store.signed_in(&token).await?.map(|found| Self::of(found, &request)).ok_or(PageError::SignedOut)
        })
    }
}

/// The cookie for a new session, or, with an empty token, one that ends it.
pub fn cookie(config: &Config, token: &str) -> Cookie<'static> {
    let cookie = Cookie::build(COOKIE, token.to_owned()).path("/").http_only(true).same_site(SameSite::Lax);
    let mut cookie = cookie.secure(config.behind_tls).finish();
    if token.is_empty() {
        cookie.make_removal();
    }
    cookie
}
