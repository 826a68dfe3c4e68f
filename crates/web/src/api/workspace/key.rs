//! A program that does the work of a workspace.

use std::future::Future;
use std::pin::Pin;

use actix_web::dev::Payload;
use actix_web::{FromRequest, HttpRequest, web};

use pronoia_service::Actor;
use pronoia_store::member_role::MemberRole;

use super::super::answer::ApiError;
use super::super::key_cache::key_of;
use crate::App;

/// Calls a minute that a key is good for.
const PER_MINUTE: u32 = 600;

/// A program with a key; a handler that takes one cannot be reached without.
#[derive(Debug, Clone, Copy)]
pub struct Program {
    /// The workspace that everything is looked up in.
    pub workspace: i64,
    /// For whom choices are entered.
    pub account: i64,
}

impl Program {
    /// Who acts: whoever made the key, as an analyst.
    pub fn actor(self) -> Actor {
        Actor { workspace: self.workspace, account: self.account, role: MemberRole::Analyst, seen: None }
    }
}

impl FromRequest for Program {
    type Error = ApiError;
    type Future = Pin<Box<dyn Future<Output = Result<Self, ApiError>>>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let key = key_of(request).map(str::to_owned);
        let app = request.app_data::<web::Data<App>>().cloned();
        Box::pin(async move {
            let (Some(key), Some(app)) = (key, app) else { return Err(ApiError::NoProgramKey) };
            let Some(found) = app.store.program_of(&key).await? else {
                tracing::warn!("a call was refused: its key opens no workspace");
                return Err(ApiError::NoProgramKey);
            };
            // Keys of releases are counted under their numbers, those of workspaces below nothing.
            let counted = app.release_calls.limits.count(-found.id, PER_MINUTE);
            counted.map_err(|seconds| ApiError::TooOften(PER_MINUTE, seconds))?;
            Ok(Self { workspace: found.workspace_id, account: found.account_id })
        })
    }
}
