//! The running account of a study.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use pronoia_core::sentence::listed;
use pronoia_core::study::{StudyState, history};
use sea_orm::sea_query::Expr;
use sea_orm::sea_query::extension::postgres::PgExpr;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, Condition, ConnectionTrait, DatabaseTransaction, DbBackend,
    EntityTrait, FromQueryResult, PaginatorTrait, QueryFilter, QueryOrder, QuerySelect, QueryTrait, Select, Statement,
    TransactionTrait,
};

use crate::entity::{account, ledger_entry, ledger_remark, study};
use crate::leases::Lease;
use crate::studies::Choice;
use crate::{Result, Store, StoreError};

/// What stands before an entry that takes another back.
const TAKEN_BACK: &str = "Undone: ";

/// The most words that are looked for.
const MOST_WORDS: usize = 12;

/// The most remarks on one entry.
const MOST_REMARKS: u64 = 50;

/// An entry without the choices around it.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct LedgerLine {
    /// Key.
    pub id: i64,
    /// Who; none if the program did it.
    pub account_id: Option<i64>,
    /// What was chosen or done.
    pub chosen: String,
    /// The figure that mattered.
    pub figure: String,
    /// Whether it is a choice, and no work that was done.
    pub is_choice: bool,
    /// The entry that it takes back, or brings back.
    pub takes_back: Option<i64>,
    /// When it was taken back.
    pub taken_back_at: Option<DateTime<Utc>>,
    /// When.
    pub created_at: DateTime<Utc>,
}

impl LedgerLine {
    /// Whether it is a choice that still stands, and takes back no other.
    pub fn can_be_taken_back(&self) -> bool {
        self.is_choice && self.taken_back_at.is_none() && self.takes_back.is_none()
    }
}

/// Something remarked, without the file.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct Remark {
    /// Key.
    pub id: i64,
    /// The entry.
    pub entry_id: i64,
    /// Who.
    pub account_id: Option<i64>,
    /// What.
    pub said: String,
    /// What the file is called, if there is one.
    pub file_name: Option<String>,
    /// When.
    pub created_at: DateTime<Utc>,
}

/// What of a ledger is asked for.
#[derive(Debug, Clone, Default)]
pub struct LedgerFilter<'a> {
    /// Words that an entry, or a remark on it, holds; empty for all.
    pub words: &'a str,
    /// By whom, if only theirs.
    pub account: Option<i64>,
}

/// What is remarked on an entry.
#[derive(Debug, Clone, Copy)]
pub struct LedgerRemark<'a> {
    /// Who says it.
    pub account_id: i64,
    /// What; may be empty if there is a file.
    pub words: &'a str,
    /// Name and bytes of a file.
    pub file: Option<(&'a str, &'a [u8])>,
}

impl Store {
    /// Enters something that cannot be taken back: a fit, a list, an opened seal. A job enters the same once,
    /// however often it is begun.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn note(&self, study_id: i64, account_id: Option<i64>, chosen: &str, figure: &str) -> Result<()> {
        let transaction = self.writing().await?;
        entered(&transaction, (account_id, self.lease()), (study_id, chosen, figure)).await?;
        Ok(transaction.commit().await?)
    }

    /// All entries, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn ledger(&self, study_id: i64) -> Result<Vec<LedgerLine>> {
        Ok(lines(study_id).into_model().all(&self.db).await?)
    }

    /// Entries that are asked for, newest first: those of a page, the first being 0, or of the last one if
    /// there are not so many; and how many there are in all.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn ledger_page(
        &self,
        study_id: i64,
        asked: &LedgerFilter<'_>,
        (page, entries): (u64, u64),
    ) -> Result<(Vec<LedgerLine>, u64)> {
        let mut wanted = Condition::all();
        for word in asked.words.split_whitespace().take(MOST_WORDS) {
            let like = format!("%{}%", word.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_"));
            let holds = |column: Expr| column.ilike(like.as_str());
            let remarked = ledger_remark::Entity::find()
                .select_only()
                .column(ledger_remark::Column::EntryId)
                .filter(
                    Condition::any()
                        .add(holds(Expr::col(ledger_remark::Column::Said)))
                        .add(holds(Expr::col(ledger_remark::Column::FileName))),
                )
                .into_query();
            wanted = wanted.add(
                Condition::any()
                    .add(holds(Expr::col(ledger_entry::Column::Chosen)))
                    .add(holds(Expr::col(ledger_entry::Column::Figure)))
                    .add(ledger_entry::Column::Id.in_subquery(remarked)),
            );
        }
        if let Some(account) = asked.account {
            wanted = wanted.add(ledger_entry::Column::AccountId.eq(account));
        }
        let pages = lines(study_id).filter(wanted).into_model::<LedgerLine>().paginate(&self.db, entries);
        let all = pages.num_items().await?;
        let last = all.div_ceil(entries).saturating_sub(1);
        Ok((pages.fetch_page(page.min(last)).await?, all))
    }

    /// An entry of a study's ledger, with the choices around it.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn ledger_entry(&self, study_id: i64, id: i64) -> Result<ledger_entry::Model> {
        let found = ledger_entry::Entity::find_by_id(id).filter(ledger_entry::Column::StudyId.eq(study_id));
        found.one(&self.db).await?.ok_or(StoreError::NotFound("This entry"))
    }

    /// The choices as they stood once an entry was made.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is no such entry.
    pub async fn choices_at(&self, study: &study::Model, entry: i64) -> Result<StudyState> {
        self.ledger_entry(study.id, entry).await?;
        let choices = || {
            ledger_entry::Entity::find()
                .filter(ledger_entry::Column::StudyId.eq(study.id))
                .filter(ledger_entry::Column::After.is_not_null())
        };
        let earlier = choices().filter(ledger_entry::Column::Id.lte(entry)).order_by_desc(ledger_entry::Column::Id);
        if let Some(after) = earlier.one(&self.db).await?.and_then(|earlier| earlier.after) {
            return Ok(serde_json::from_value(after)?);
        }
        let first = choices().order_by_asc(ledger_entry::Column::Id).one(&self.db).await?;
        first
            .and_then(|first| first.before)
            .map_or_else(|| study.choices(), |before| Ok(serde_json::from_value(before)?))
    }

    /// The latest choices of a study, newest first, and the state before them.
    pub(crate) async fn latest_choices(
        &self,
        study: &study::Model,
        most: u64,
    ) -> Result<(Vec<LedgerLine>, StudyState)> {
        let choices = lines(study.id).filter(ledger_entry::Column::After.is_not_null()).limit(most);
        let found: Vec<LedgerLine> = choices.into_model().all(&self.db).await?;
        let Some(oldest) = found.last() else { return Ok((found, study.choices()?)) };
        let before = self.ledger_entry(study.id, oldest.id).await?.around()?.map(|(before, _)| before);
        let before = before.ok_or_else(|| StoreError::Damaged("an entry without choices".into()))?;
        Ok((found, before))
    }

    /// The choices of a study without an entry of its ledger.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if the entry is no choice, was taken back, or was built upon since.
    pub async fn choices_without(&self, study: &study::Model, entry: &ledger_entry::Model) -> Result<StudyState> {
        let refused = |sentence: String| Err(StoreError::Refused(sentence));
        if entry.taken_back_at.is_some() {
            return refused("This was undone already.".into());
        }
        if let Some(other) = entry.takes_back
            && self.ledger_entry(study.id, other).await?.takes_back.is_some()
        {
            return refused("What it restored was changed again; undo that instead.".into());
        }
        let Some((before, after)) = entry.around()? else {
            return refused("This entry is a result, not a choice; it cannot be undone.".into());
        };
        history::without(&study.choices()?, &before, &after).or_else(|parts| {
            let parts: Vec<String> = parts.iter().map(history::ChoicePart::words).collect();
            refused(format!("Later choices changed {} again. Undo those first.", listed(&parts)))
        })
    }

    /// Puts the choices in place that are left without an entry, and enters that, both or neither. An
    /// entry that took another back brings it back so.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if somebody else changed the study since it was read.
    pub async fn take_back(
        &self,
        study: &study::Model,
        entry: &ledger_entry::Model,
        state: &StudyState,
        account_id: i64,
    ) -> Result<()> {
        let chosen = match entry.takes_back {
            None => format!("{TAKEN_BACK}{}", entry.chosen),
            Some(_) => entry.chosen.replacen(TAKEN_BACK, "Redone: ", 1),
        };
        let choice = Choice { by: account_id.into(), chosen, figure: entry.figure.clone() };
        let transaction = self.db.begin().await?;
        Self::enter(&transaction, study, state, &choice, Some(entry.id)).await?;
        let now = Utc::now();
        let mark = |id, at| {
            let row = ledger_entry::ActiveModel { id: Set(id), taken_back_at: Set(at), ..Default::default() };
            row.update(&transaction)
        };
        mark(entry.id, Some(now)).await?;
        if let Some(other) = entry.takes_back {
            mark(other, None).await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// Remarks something on an entry.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if very much was remarked on it before.
    pub async fn remark(&self, entry: i64, said: &LedgerRemark<'_>) -> Result<()> {
        let before = ledger_remark::Entity::find().filter(ledger_remark::Column::EntryId.eq(entry));
        if before.count(&self.db).await? >= MOST_REMARKS {
            return Err(StoreError::Refused(format!(
                "This entry has {MOST_REMARKS} remarks already; add more to a later one."
            )));
        }
        ledger_remark::ActiveModel {
            entry_id: Set(entry),
            account_id: Set(Some(said.account_id)),
            said: Set(said.words.into()),
            file_name: Set(said.file.map(|file| file.0.to_owned())),
            file: Set(said.file.map(|file| file.1.to_vec())),
            ..Default::default()
        }
        .insert(&self.db)
        .await?;
        Ok(())
    }

    /// What was remarked on entries, in the order in which it was.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn remarks(&self, entries: impl IntoIterator<Item = i64>) -> Result<Vec<Remark>> {
        let all = ledger_remark::Entity::find().select_only().columns([
            ledger_remark::Column::Id,
            ledger_remark::Column::EntryId,
            ledger_remark::Column::AccountId,
            ledger_remark::Column::Said,
            ledger_remark::Column::FileName,
            ledger_remark::Column::CreatedAt,
        ]);
        let of_entries = all.filter(ledger_remark::Column::EntryId.is_in(entries));
        Ok(of_entries.order_by_asc(ledger_remark::Column::Id).into_model().all(&self.db).await?)
    }

    /// Name and bytes of a file that was added to an entry of a study.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn remarked_file(&self, study_id: i64, remark: i64) -> Result<(String, Vec<u8>)> {
        const MISSING: StoreError = StoreError::NotFound("This file");
        let found = ledger_remark::Entity::find_by_id(remark).one(&self.db).await?.ok_or(MISSING)?;
        self.ledger_entry(study_id, found.entry_id).await.map_err(|_| MISSING)?;
        found.file_name.zip(found.file).ok_or(MISSING)
    }

    /// The addresses of accounts.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn addresses(&self, accounts: impl IntoIterator<Item = i64>) -> Result<HashMap<i64, String>> {
        let found = account::Entity::find().filter(account::Column::Id.is_in(accounts)).all(&self.db).await?;
        Ok(found.into_iter().map(|account| (account.id, account.email)).collect())
    }
}

/// The entries of a study, newest first.
fn lines(study_id: i64) -> Select<ledger_entry::Entity> {
    ledger_entry::Entity::find()
        .select_only()
        .columns([
            ledger_entry::Column::Id,
            ledger_entry::Column::AccountId,
            ledger_entry::Column::Chosen,
            ledger_entry::Column::Figure,
            ledger_entry::Column::TakesBack,
            ledger_entry::Column::TakenBackAt,
            ledger_entry::Column::CreatedAt,
        ])
        .column_as(ledger_entry::Column::After.is_not_null(), "is_choice")
        .filter(ledger_entry::Column::StudyId.eq(study_id))
        .order_by_desc(ledger_entry::Column::Id)
}

impl ledger_entry::Model {
    /// The choices before it and after it; none if it is no choice.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn around(&self) -> Result<Option<(StudyState, StudyState)>> {
        let read = |state: &serde_json::Value| serde_json::from_value(state.clone());
        match (&self.before, &self.after) {
            (Some(before), Some(after)) => Ok(Some((read(before)?, read(after)?))),
            _ => Ok(None),
        }
    }
}

/// Enters what somebody or a job did, unless the same job entered it when it was begun before; whether it was
/// entered now.
pub(crate) async fn entered(
    on: &DatabaseTransaction,
    (account_id, lease): (Option<i64>, Option<Lease>),
    (study_id, chosen, figure): (i64, &str, &str),
) -> Result<bool> {
    const SQL: &str = "INSERT INTO ledger_entry (study_id, account_id, chosen, figure, job_id) \
        VALUES ($1, $2, $3, $4, $5) \
        ON CONFLICT DO NOTHING";
    let job = lease.map(|lease| lease.job);
    let values = [study_id.into(), account_id.into(), chosen.into(), figure.into(), job.into()];
    let entered = on.execute_raw(Statement::from_sql_and_values(DbBackend::Postgres, SQL, values)).await?;
    Ok(entered.rows_affected() > 0)
}
