//! How anything is done: by an action, which is declared with who may do it and under which path programs reach it, and
//! is performed in one transaction.

use std::sync::{Mutex, OnceLock, PoisonError};

use pronoia_store::Unit;
use pronoia_store::member_role::MemberRole;
use pronoia_store::studies::Author;
use serde::Serialize;
use utoipa::ToSchema;

use crate::App;
use crate::error::ServiceError;

/// Who does something, and what they saw.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Actor {
    /// The workspace that everything is looked up in.
    pub workspace: i64,
    /// Their account.
    pub account: i64,
    /// What they may do there.
    pub role: MemberRole,
    /// The revision of the study that they looked at; none where nothing was looked at.
    pub seen: Option<i64>,
}

impl Actor {
    /// Whoever choices are entered for.
    pub fn author(&self) -> Author {
        Author { account_id: self.account, seen: self.seen }
    }
}

/// How an action is declared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Declaration {
    /// What is done, for the API's document: `Exclude columns`.
    pub title: &'static str,
    /// The least role that may do it.
    pub role: MemberRole,
    /// The path of the API, reached by POST; what differs from one call to the next stands in braces.
    pub path: &'static str,
    /// The status of the answer: 200 with a value, 201 where something was made, 202 where a job was put in the queue, 204
    /// without a body.
    pub status: u16,
}

/// Something that somebody does. Its fields are what is asked for; by the API, those that stand in the path and those of
/// the body.
pub trait Action: Send + Sized {
    /// How it is declared.
    const DECLARATION: Declaration;

    /// What comes of it.
    type Done: Send;

    /// Does it. What is read and worked out before [`ActionScope::begin`] holds no transaction; all that is changed after
    /// it is kept together, or not at all.
    ///
    /// # Errors
    /// Why it was not done; nothing was changed then.
    fn perform(self, scope: &ActionScope<'_>) -> impl Future<Output = Result<Self::Done, ServiceError>> + Send;
}

/// A job that was put in the queue.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
pub struct Queued {
    /// Its key; ask for it until it is done.
    pub job: i64,
}

/// Something that was made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
pub struct Created {
    /// Its key.
    pub id: i64,
}

/// Where an action takes place: the application, who acts, and the transaction once it was begun.
#[derive(Debug)]
pub struct ActionScope<'a> {
    /// The application, outside the transaction.
    pub app: &'a App,
    /// Who acts.
    pub by: Actor,
    unit: OnceLock<(Unit, App)>,
    /// Done once everything is kept.
    afterwards: Mutex<Vec<fn(&App)>>,
}

impl ActionScope<'_> {
    /// Has something done once the action is kept, such as forgetting what a cache holds of the state before it.
    pub fn afterwards(&self, then: fn(&App)) {
        self.afterwards.lock().unwrap_or_else(PoisonError::into_inner).push(then);
    }

    /// The application within the action's transaction, which is begun by the first call.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn begin(&self) -> Result<&App, ServiceError> {
        if self.unit.get().is_none() {
            let unit = self.app.store.unit().await?;
            let app = App { store: unit.store().clone(), ..self.app.clone() };
            // An action is a single task, so that nobody else has begun meanwhile.
            drop(self.unit.set((unit, app)));
        }
        self.unit.get().map(|(_, app)| app).ok_or(ServiceError::BrokeOff)
    }
}

impl App {
    /// Performs an action, if whoever asks may do that: all of it in one transaction, or nothing.
    ///
    /// # Errors
    /// [`ServiceError::NotAllowed`]; those of the action.
    pub async fn perform<A: Action>(&self, by: Actor, action: A) -> Result<A::Done, ServiceError> {
        if by.role < A::DECLARATION.role {
            return Err(ServiceError::NotAllowed(refusal(A::DECLARATION.role)));
        }
        let scope = ActionScope { app: self, by, unit: OnceLock::new(), afterwards: Mutex::default() };
        let done = action.perform(&scope).await?;
        let ActionScope { unit, afterwards, .. } = scope;
        if let Some((unit, app)) = unit.into_inner() {
            drop(app);
            unit.commit().await?;
        }
        for then in afterwards.into_inner().unwrap_or_else(PoisonError::into_inner) {
            then(self);
        }
        Ok(done)
    }
}

/// What is said to somebody who would need this role.
pub fn refusal(role: MemberRole) -> &'static str {
    match role {
        MemberRole::Owner => "Only owners of the workspace do this. Ask one of them; People says who they are.",
        _ => {
            "You may look at everything here and change nothing. An owner of the workspace can let you; People says who they are."
        }
    }
}
