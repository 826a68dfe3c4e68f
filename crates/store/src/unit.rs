//! One transaction for everything that an action changes.
//!
//! A [`Unit`] is a store whose reads and writes all take part in one transaction. Functions of the store that have
//! transactions of their own open savepoints in it, so that an action may call several of them and all of it is kept,
//! or nothing.

use std::sync::Arc;

use sea_orm::{
    AccessMode, ConnectionTrait, DatabaseConnection, DatabaseTransaction, DbBackend, DbErr, ExecResult, IsolationLevel,
    QueryResult, Statement, TransactionError, TransactionOptions, TransactionTrait,
};

use crate::{Result, Store, StoreError};

/// By what a store reads and writes.
#[derive(Debug, Clone)]
pub(crate) enum Db {
    /// Connections of a pool, each statement or transaction by itself.
    Pool(DatabaseConnection),
    /// A transaction that is going on.
    Unit(Arc<DatabaseTransaction>),
}

/// A transaction that is going on; given up unless it is committed.
#[derive(Debug)]
pub struct Unit {
    transaction: Arc<DatabaseTransaction>,
    store: Store,
}

impl Unit {
    /// The store within the transaction. What was made of it has to be dropped before the transaction is committed.
    pub fn store(&self) -> &Store {
        &self.store
    }

    /// Keeps everything.
    ///
    /// # Errors
    /// If the database does not answer, or something still holds a store of the transaction; nothing is kept then.
    pub async fn commit(self) -> Result<()> {
        let Self { transaction, store } = self;
        drop(store);
        let transaction = Arc::into_inner(transaction)
            .ok_or_else(|| StoreError::Damaged("a transaction is still used where it ends".into()))?;
        Ok(transaction.commit().await?)
    }
}

impl Store {
    /// Begins a transaction for several functions of the store.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn unit(&self) -> Result<Unit> {
        let transaction = Arc::new(self.writing().await?);
        let store = Self { db: Db::Unit(Arc::clone(&transaction)), ..self.clone() };
        Ok(Unit { transaction, store })
    }
}

#[async_trait::async_trait]
impl ConnectionTrait for Db {
    fn get_database_backend(&self) -> DbBackend {
        DbBackend::Postgres
    }

    async fn execute_raw(&self, statement: Statement) -> std::result::Result<ExecResult, DbErr> {
        match self {
            Self::Pool(pool) => pool.execute_raw(statement).await,
            Self::Unit(unit) => unit.execute_raw(statement).await,
        }
    }

    async fn execute_unprepared(&self, sql: &str) -> std::result::Result<ExecResult, DbErr> {
        match self {
            Self::Pool(pool) => pool.execute_unprepared(sql).await,
            Self::Unit(unit) => unit.execute_unprepared(sql).await,
        }
    }

    async fn query_one_raw(&self, statement: Statement) -> std::result::Result<Option<QueryResult>, DbErr> {
        match self {
            Self::Pool(pool) => pool.query_one_raw(statement).await,
            Self::Unit(unit) => unit.query_one_raw(statement).await,
        }
    }

    async fn query_all_raw(&self, statement: Statement) -> std::result::Result<Vec<QueryResult>, DbErr> {
        match self {
            Self::Pool(pool) => pool.query_all_raw(statement).await,
            Self::Unit(unit) => unit.query_all_raw(statement).await,
        }
    }
}

#[async_trait::async_trait]
impl TransactionTrait for Db {
    type Transaction = DatabaseTransaction;

    async fn begin(&self) -> std::result::Result<DatabaseTransaction, DbErr> {
        match self {
            Self::Pool(pool) => pool.begin().await,
            Self::Unit(unit) => unit.begin().await,
        }
    }

    async fn begin_with_config(
        &self,
        isolation: Option<IsolationLevel>,
        access: Option<AccessMode>,
    ) -> std::result::Result<DatabaseTransaction, DbErr> {
        match self {
            Self::Pool(pool) => pool.begin_with_config(isolation, access).await,
            Self::Unit(unit) => unit.begin_with_config(isolation, access).await,
        }
    }

    async fn begin_with_options(&self, options: TransactionOptions) -> std::result::Result<DatabaseTransaction, DbErr> {
        match self {
            Self::Pool(pool) => pool.begin_with_options(options).await,
            Self::Unit(unit) => unit.begin_with_options(options).await,
        }
    }

    async fn transaction<F, T, E>(&self, callback: F) -> std::result::Result<T, TransactionError<E>>
    where
        F: for<'c> FnOnce(
                &'c DatabaseTransaction,
            )
                -> std::pin::Pin<Box<dyn Future<Output = std::result::Result<T, E>> + Send + 'c>>
            + Send,
        T: Send,
        E: std::fmt::Display + std::fmt::Debug + Send,
    {
        match self {
            Self::Pool(pool) => pool.transaction(callback).await,
            Self::Unit(unit) => unit.transaction(callback).await,
        }
    }

    async fn transaction_with_config<F, T, E>(
        &self,
        callback: F,
        isolation: Option<IsolationLevel>,
        access: Option<AccessMode>,
    ) -> std::result::Result<T, TransactionError<E>>
    where
        F: for<'c> FnOnce(
                &'c DatabaseTransaction,
            )
                -> std::pin::Pin<Box<dyn Future<Output = std::result::Result<T, E>> + Send + 'c>>
            + Send,
        T: Send,
        E: std::fmt::Display + std::fmt::Debug + Send,
    {
        match self {
            Self::Pool(pool) => pool.transaction_with_config(callback, isolation, access).await,
            Self::Unit(unit) => unit.transaction_with_config(callback, isolation, access).await,
        }
    }
}
