//! Who is answered at which address.

use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use actix_web::middleware::Next;
use actix_web::{HttpMessage, ResponseError, web};
use pronoia_service::ServiceError;
use pronoia_service::action::refusal;
use pronoia_store::accounts::SignedIn;
use pronoia_store::member_role::MemberRole;

use crate::error::PageError;
use crate::{App, api, pages, session};

/// What somebody has to be to be answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Right {
    /// Anybody at all.
    Anybody,
    /// Somebody signed in.
    Reader,
    /// Somebody who does the work.
    Analyst,
    /// Somebody who says who may do what.
    Owner,
    /// A program, with a key.
    Program,
}

/// An address at which somebody is answered.
#[derive(Debug, Clone, Copy)]
pub struct Route {
    /// `get` or `post`.
    pub method: &'static str,
    /// Its path; what differs from one request to the next stands in braces.
    pub path: &'static str,
    /// Who.
    pub right: Right,
}

/// Declares addresses, each with who is answered there and by what: `DOORS` with the whole paths, and
/// `routes`, which has them answered. There is no other way to have an address answered, so that none is
/// without a right.
macro_rules! declared {
    ($prefix:literal; $($right:ident $method:ident $path:literal => $handler:path;)+) => {
        /// What stands before all paths.
        #[allow(dead_code, reason = "nothing stands before those of pages")]
        const PREFIX: &str = $prefix;

        /// Every address, and who is answered there.
        pub(crate) const DOORS: &[crate::rights::Route] = &[$(crate::rights::Route {
            method: stringify!($method),
            path: concat!($prefix, $path),
            right: crate::rights::Right::$right,
        }),+];

        /// Has every address answered.
        pub(crate) fn routes(config: &mut actix_web::web::ServiceConfig) {
            config$(.route($path, actix_web::web::$method().to($handler)))+;
        }
    };
}

pub(crate) use declared as doors;

/// Every address of pages and of the interface for programs.
pub fn doors() -> impl Iterator<Item = &'static Route> {
    api::DOORS.iter().chain(api::actions::doors()).chain(pages::DOORS)
}

impl Right {
    /// The least role that has it, where members of a workspace have it.
    fn least(self) -> Option<MemberRole> {
        match self {
            Self::Anybody | Self::Program => None,
            Self::Reader => Some(MemberRole::Reader),
            Self::Analyst => Some(MemberRole::Analyst),
            Self::Owner => Some(MemberRole::Owner),
        }
    }
}

/// Answers only whom an address is for; programs show their keys to what answers them.
pub async fn guard<B: MessageBody>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, actix_web::Error> {
    match admitted(&request).await {
        Ok(signed_in) => {
            if let Some(signed_in) = signed_in {
                request.extensions_mut().insert(signed_in);
            }
            Ok(next.call(request).await?.map_into_left_body())
        }
        Err(refused) => Ok(request.into_response(refused.error_response()).map_into_right_body()),
    }
}

/// Who is signed in, where somebody has to be.
async fn admitted(request: &ServiceRequest) -> Result<Option<SignedIn>, PageError> {
    let Some(least) = right_at(request.method(), request.match_pattern().as_deref()).and_then(Right::least) else {
        return Ok(None);
    };
    let app = request.app_data::<web::Data<App>>().ok_or(PageError::SignedOut)?;
    let token = request.cookie(session::COOKIE).ok_or(PageError::SignedOut)?;
    let signed_in = app.store.signed_in(token.value()).await?.ok_or(PageError::SignedOut)?;
    if signed_in.role < least {
        return Err(ServiceError::NotAllowed(refusal(least)).into());
    }
    Ok(Some(signed_in))
}

/// The right at an address; none where nobody is answered.
fn right_at(method: &Method, pattern: Option<&str>) -> Option<Right> {
    let pattern = pattern?;
    let here = |door: &&Route| door.path == pattern && method.as_str().eq_ignore_ascii_case(door.method);
    doors().find(here).map(|door| door.right)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_changes_anything_does_the_work_and_no_address_is_declared_twice() {
        let all: Vec<&Route> = doors().collect();
        assert!(all.len() > 120, "{}", all.len());
        for (at, door) in all.iter().enumerate() {
            assert!(all[..at].iter().all(|other| (other.method, other.path) != (door.method, door.path)), "{door:?}");
            // A question changes nothing; it is sent by a form because of what it is.
            let own = ["/sign-in", "/sign-out", "/theme", "/walk", "/join/{link}", "/query", "/query/answer.csv"]
                .contains(&door.path)
                || door.path.starts_with("/account/");
            if door.method == "post" && !own {
                assert!(![Right::Anybody, Right::Reader].contains(&door.right), "{door:?}");
            }
        }
        assert_eq!(right_at(&Method::POST, Some("/studies/{id}/decide")), Some(Right::Analyst));
        assert_eq!(right_at(&Method::POST, Some("/find")), None);
    }
}
