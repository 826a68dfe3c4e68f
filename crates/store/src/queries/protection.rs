//! Whether the database keeps a question from what it must not reach, even if the words of one got past us.
//!
//! A superuser sees to that once (`deploy/prepare_database.sql`). Where nobody did, questions are off, unless
//! whoever runs the server accepts by name what is missing.

use std::sync::Mutex;
use std::time::{Duration, Instant};

use pronoia_core::sentence::listed;
use sea_orm::sqlx;

use crate::{Result, Store, StoreError};

/// How long it is believed that nothing has changed.
const BELIEVED: Duration = Duration::from_secs(60);

/// What is open that should not be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unprotected {
    /// Pronoia signs in as a superuser.
    Superuser,
    /// Everybody may call functions that lock, wait, read settings or keep large objects.
    Functions,
    /// Everybody may read the catalogues, with the names of everybody's tables.
    Catalogues,
    /// Everybody may write temporary files without a limit.
    TemporaryFiles,
}

impl Unprotected {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Superuser, Self::Functions, Self::Catalogues, Self::TemporaryFiles];

    /// By which it is accepted.
    pub fn name(self) -> &'static str {
        match self {
            Self::Superuser => "superuser",
            Self::Functions => "functions",
            Self::Catalogues => "catalogues",
            Self::TemporaryFiles => "temporary-files",
        }
    }

    /// In words.
    pub fn description(self) -> &'static str {
        match self {
            Self::Superuser => "Pronoia signs in as a superuser",
            Self::Functions => "anybody may keep large objects, take advisory locks and let the server wait",
            Self::Catalogues => "anybody may read the names of all tables",
            Self::TemporaryFiles => "temporary files have no limit",
        }
    }
}

/// What was found, and what is accepted.
#[derive(Debug, Default)]
pub(crate) struct Protection {
    found: Mutex<Option<(Instant, Vec<Unprotected>)>>,
    accepted: Mutex<Vec<Unprotected>>,
}

impl Store {
    /// Lets questions be asked though something is open, as whoever runs the server said by name.
    pub fn accept_unprotected(&self, accepted: &[Unprotected]) {
        if let Ok(mut own) = self.questions.protection.accepted.lock() {
            accepted.clone_into(&mut own);
        }
    }

    /// What is open in the database that a question must not reach.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn unprotected(&self) -> Result<Vec<Unprotected>> {
        const SQL: &str = "SELECT \
            (SELECT rolsuper FROM pg_catalog.pg_roles WHERE rolname = current_user), \
            has_function_privilege('public', 'pg_catalog.lo_create(oid)', 'EXECUTE') \
                OR has_function_privilege('public', 'pg_catalog.pg_advisory_lock(bigint)', 'EXECUTE') \
                OR has_function_privilege('public', 'pg_catalog.pg_sleep(double precision)', 'EXECUTE') \
                OR has_function_privilege('public', 'pg_catalog.set_config(text,text,boolean)', 'EXECUTE'), \
            has_table_privilege('public', 'pg_catalog.pg_class', 'SELECT') \
                OR has_table_privilege('public', 'pg_catalog.pg_attribute', 'SELECT') \
                OR has_function_privilege('public', 'pg_catalog.pg_get_viewdef(oid)', 'EXECUTE'), \
            NOT EXISTS (SELECT FROM pg_catalog.pg_db_role_setting s JOIN pg_catalog.pg_database d ON d.oid = s.setdatabase \
                CROSS JOIN unnest(s.setconfig) AS c WHERE d.datname = current_database() AND s.setrole = 0 \
                AND c LIKE 'temp\\_file\\_limit=%' AND c <> 'temp_file_limit=-1')";
        let open: (bool, bool, bool, bool) = sqlx::query_as(SQL).fetch_one(self.pool()).await?;
        let open = [open.0, open.1, open.2, open.3];
        Ok(Unprotected::ALL.into_iter().zip(open).filter(|(_, is_open)| *is_open).map(|(what, _)| what).collect())
    }

    /// That questions may be asked.
    ///
    /// # Errors
    /// [`StoreError::Refused`] with what is open, and what whoever runs the server can do.
    pub async fn protected(&self) -> Result<()> {
        let protection = &self.questions.protection;
        let known = protection.found.lock().ok().and_then(|found| found.clone());
        let open = match known.filter(|(at, _)| at.elapsed() < BELIEVED) {
            Some((_, open)) => open,
            None => {
                let open = self.unprotected().await?;
                if let Ok(mut found) = protection.found.lock() {
                    *found = Some((Instant::now(), open.clone()));
                }
                open
            }
        };
        let accepted = protection.accepted.lock().map(|accepted| accepted.clone()).unwrap_or_default();
        let open: Vec<Unprotected> = open.into_iter().filter(|what| !accepted.contains(what)).collect();
        if open.is_empty() {
            return Ok(());
        }
        let words: Vec<String> = open.iter().map(|what| what.description().to_owned()).collect();
        let names: Vec<&str> = open.iter().map(|what| what.name()).collect();
        Err(StoreError::Refused(format!(
            "Questions in SQL are off, because the database was not prepared for them: {}. Whoever runs this server can prepare it once (deploy/prepare_database.sql), or accept it as it is (serve --accept-unprotected {}).",
            listed(&words),
            names.join(",")
        )))
    }
}
