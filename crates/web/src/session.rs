//! Who is looking.

use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::Payload;
use actix_web::{FromRequest, HttpRequest, web};
use pronoia_store::accounts::SignedIn;
use std::future::Future;
use std::pin::Pin;

use crate::App;
use crate::error::PageError;

/// Name of the cookie that holds the session's token.
pub const COOKIE: &str = "pronoia_session";

/// A signed-in visitor; a handler that takes one cannot be reached by strangers.
#[derive(Debug, Clone)]
pub struct Visitor(pub SignedIn);

impl Visitor {
    /// Refuses a form that does not come from a page of this session.
    pub fn check(&self, csrf: &str) -> Result<(), PageError> {
        // Equal lengths are compared whole, so that time tells nothing.
        let right = self.0.csrf.as_bytes();
        let differs = right.iter().zip(csrf.as_bytes()).fold(0, |d, (a, b)| d | (a ^ b));
        if csrf.len() == right.len() && differs == 0 { Ok(()) } else { Err(PageError::Forged) }
    }

    /// The workspace that everything is looked up in.
    pub fn workspace_id(&self) -> i64 {
        self.0.workspace.id
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
        let token = request.cookie(COOKIE).map(|c| c.value().to_owned());
        let app = request.app_data::<web::Data<App>>().cloned();
        Box::pin(async move {
            let (Some(token), Some(app)) = (token, app) else { return Err(PageError::SignedOut) };
            app.store.signed_in(&token).await?.map(Visitor).ok_or(PageError::SignedOut)
        })
    }
}

/// The cookie for a new session, or, with an empty token, one that ends it.
pub fn cookie(token: &str) -> Cookie<'static> {
    let mut cookie =
        Cookie::build(COOKIE, token.to_owned()).path("/").http_only(true).same_site(SameSite::Lax).finish();
    if token.is_empty() {
        cookie.make_removal();
    }
    cookie
}
