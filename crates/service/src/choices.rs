//! The choices of a study, changed.

use pronoia_core::study::StudyState;
use pronoia_store::ledger::LedgerLine;
use pronoia_store::studies::Choice;
use pronoia_store::{StoreError, study};

use crate::error::ServiceError;
use crate::{App, text};

/// Puts new choices in place and enters what was chosen in the ledger; whoever was overtaken is told by whom.
///
/// # Errors
/// [`ServiceError::Overtaken`]; if the database does not answer.
pub async fn choose(app: &App, seen: &study::Model, state: &StudyState, choice: &Choice) -> Result<(), ServiceError> {
    match app.store.choose(seen, state, choice).await {
        Err(StoreError::Overtaken(lines)) => {
            let addresses = app.store.addresses(lines.iter().filter_map(|line| line.account_id)).await?;
            let who =
                |line: &LedgerLine| line.account_id.and_then(|id| addresses.get(&id).cloned()).unwrap_or_default();
            let said = |line: &LedgerLine| {
                format!("{}. {} {}, {}", line.chosen, line.figure, who(line), text::moment(&line.created_at))
            };
            Err(ServiceError::Overtaken(lines.iter().map(said).collect()))
        }
        other => Ok(other?),
    }
}
