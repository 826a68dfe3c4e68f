//! The customers of a list who are not to be contacted, whatever a policy says.

use pronoia_core::question::Question;
use pronoia_core::score::{ColumnAnswers, Roll, pair};
use pronoia_core::{Column, Table};
use pronoia_store::{record_table, study};

use super::{Trouble, compute};
use crate::App;

/// Those who are not to be contacted, and how they are found in a list.
pub(super) struct Suppressed {
    roll: Roll,
    /// The column that they are told by.
    by: String,
    /// The column of the list that it is read from.
    pub source: String,
}

impl Suppressed {
    /// Of a workspace, for a list of a study; nobody where nobody said so, or where acting is no contact.
    ///
    /// A list in which they could not be found is not scored: whoever asked to be left alone would be
    /// contacted without anybody noticing.
    pub async fn of(
        app: &App,
        study: &study::Model,
        (list, answers): (&record_table::Model, &ColumnAnswers),
    ) -> Result<Option<Self>, Trouble> {
        let said = app.store.do_not_contact(study.workspace_id).await?;
        let Some(said) = said.filter(|_| study.kind() != Question::Credit) else { return Ok(None) };
        let Some(table) = app.store.newest_ever(study.workspace_id, &said.table_name).await? else {
            return Err(Trouble::Failed(format!(
                "Opted-out customers are in “{}”, and its newest version no longer exists; an older one may lack some of them. Restore the newest one, or set another opt-out table at Lists.",
                said.table_name
            )));
        };
        let names = list.names()?;
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        let paired = pair(&[said.by_column.as_str()], &names, answers);
        let source = paired.first().and_then(|paired| paired.source(&said.by_column)).map(str::to_owned);
        let Some(source) = source else {
            return Err(Trouble::Failed(format!(
                "Opted-out customers are matched by “{}”, which {} does not have. Import the list with that column, or choose “no table” at Lists.",
                said.by_column, list.name
            )));
        };
        let by = said.by_column;
        let those = app.store.columns(&table, Some(std::slice::from_ref(&by))).await?;
        let told = by.clone();
        let roll = compute(move || Roll::of(&those, &[told])).await?.map_err(Trouble::Failed)?;
        Ok(Some(Self { roll, by, source }))
    }

    /// Of every customer of a part of the list, whether they are among those.
    pub fn find(&self, part: &Table) -> Result<Vec<bool>, Trouble> {
        let column = part
            .column(&self.source)
            .ok_or_else(|| Trouble::Failed(format!("There is no column “{}”.", self.source)))?;
        let renamed = Column { name: self.by.clone(), ..column.clone() };
        let found = self.roll.find(&Table::default().with(renamed)).map_err(Trouble::Failed)?;
        Ok(found.into_iter().map(|row| row.is_some()).collect())
    }
}
