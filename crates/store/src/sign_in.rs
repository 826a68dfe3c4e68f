//! Signing in, and how guessing is slowed down.
//!
//! An attempt is entered before the password is looked at, in one statement that also says whether it may be made: of
//! many attempts at the same moment no more are let through than of as many one after the other. It is counted by
//! account and network address together, so that a stranger's wrong guesses hold up nobody else; more generously by
//! address, for whoever tries one password on many accounts; and, from addresses that the account is not signed in at,
//! by account, for whoever guesses from many addresses.

use std::sync::LazyLock;
use std::time::Duration;

use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};
use sea_orm::sqlx;

use crate::entity::account;
use crate::waiting_turns::Turns;
use crate::{Result, Store, StoreError};

/// Passwords that are looked at at the same time, each of which takes some 20 MB and all of a processor, and those
/// that wait for it.
static HASHING: LazyLock<Turns> = LazyLock::new(|| Turns::new(2, 22, LONGEST_WAIT, "Many are signing in."));

/// How long a password waits to be looked at.
const LONGEST_WAIT: Duration = Duration::from_secs(10);

/// Letters of an e-mail address at most.
pub(crate) const LONGEST_EMAIL: usize = 254;

/// What attempts are counted by, and how patiently.
#[derive(Debug, Clone, Copy)]
struct Patience {
    /// Attempts without any wait.
    free: i32,
    /// Seconds to wait at most; each attempt beyond the free ones doubles the wait, from a second on.
    most: i32,
}

/// By account and address together.
const BY_BOTH: Patience = Patience { free: 5, most: 900 };

/// By address.
const BY_ADDRESS: Patience = Patience { free: 40, most: 300 };

/// By account.
const BY_ACCOUNT: Patience = Patience { free: 40, most: 30 };

/// Stands for all accounts, or all addresses.
const ANY: &str = "*";

/// Minutes after which attempts are forgotten.
const FORGOTTEN_MINUTES: i32 = 60;

/// Where somebody signs in from.
#[derive(Debug, Clone, Copy)]
pub struct Origin<'f> {
    /// The network address.
    pub address: &'f str,
    /// What the browser says that it is.
    pub agent: &'f str,
}

/// Why somebody cannot sign in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Denied {
    /// Address or password are not right; it is not said which.
    Wrong,
    /// Too many attempts; the seconds to wait.
    TooMany(u64),
}

impl Store {
    /// The account that address and password belong to; attempts are counted.
    pub(crate) async fn known(
        &self,
        email: &str,
        password: &str,
        from: &Origin<'_>,
    ) -> Result<std::result::Result<account::Model, Denied>> {
        if !may_be_email(email) {
            return Ok(Err(Denied::Wrong));
        }
        let email: String = email.chars().take(LONGEST_EMAIL).collect();
        let network = network_of(from.address);
        let account = self.account(&email).await?;
        let mut counted = vec![((email.as_str(), network.as_str()), BY_BOTH), ((ANY, network.as_str()), BY_ADDRESS)];
        let is_known_here = match &account {
            Some(account) => self.sessions(account.id).await?.iter().any(|s| network_of(&s.address) == network),
            None => false,
        };
        if !is_known_here {
            counted.push(((email.as_str(), ANY), BY_ACCOUNT));
        }
        for (by, patience) in &counted {
            if let Some(seconds) = self.entered(*by, *patience).await? {
                return Ok(Err(Denied::TooMany(seconds)));
            }
        }
        // An unknown address takes as long as a wrong password.
        let stored = account.as_ref().map(|a| a.password_hash.clone());
        let right = verify(password.to_owned(), stored).await?;
        let Some(account) = account.filter(|_| right) else { return Ok(Err(Denied::Wrong)) };
        // What was no guess is not counted as one.
        sqlx::query("DELETE FROM sign_in_guard WHERE email = $1 AND address = $2")
            .bind(&email)
            .bind(&network)
            .execute(self.pool())
            .await?;
        sqlx::query(
            "UPDATE sign_in_guard SET tries = greatest(0, tries - 1), next_at = least(next_at, now()) \
             WHERE (email = $1 AND address = $3) OR (email = $3 AND address = $2)",
        )
        .bind(&email)
        .bind(&network)
        .bind(ANY)
        .execute(self.pool())
        .await?;
        Ok(Ok(account))
    }

    /// Enters an attempt; the seconds to wait if it may not be made yet.
    async fn entered(&self, (email, address): (&str, &str), patience: Patience) -> Result<Option<u64>> {
        const ENTER: &str = "INSERT INTO sign_in_guard AS g (email, address, tries, next_at) VALUES ($1, $2, 1, now()) \
            ON CONFLICT (email, address) DO UPDATE SET tries = g.tries + 1, last_at = now(), \
            next_at = now() + make_interval(secs => CASE WHEN g.tries < $3 THEN 0 \
                ELSE least($4, 2 ^ least(g.tries - $3, 20)) END) \
            WHERE g.next_at <= now() RETURNING 1";
        let entered = sqlx::query(ENTER)
            .bind(email)
            .bind(address)
            .bind(patience.free)
            .bind(patience.most)
            .fetch_optional(self.pool())
            .await?;
        if entered.is_some() {
            return Ok(None);
        }
        const LEFT: &str = "SELECT greatest(1, ceil(extract(epoch FROM next_at - now())))::bigint FROM sign_in_guard \
            WHERE email = $1 AND address = $2";
        let left: Option<i64> = sqlx::query_scalar(LEFT).bind(email).bind(address).fetch_optional(self.pool()).await?;
        Ok(Some(left.unwrap_or(1).unsigned_abs()))
    }

    /// Forgets attempts that were made long ago.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn forget_attempts(&self) -> Result<()> {
        sqlx::query("DELETE FROM sign_in_guard WHERE last_at < now() - make_interval(mins => $1) AND next_at < now()")
            .bind(FORGOTTEN_MINUTES)
            .execute(self.pool())
            .await?;
        Ok(())
    }
}

/// Whether something could be an e-mail address at all.
pub(crate) fn may_be_email(email: &str) -> bool {
    !email.is_empty() && !email.chars().any(|c| c.is_control() || c.is_whitespace())
}

/// The network of an address: of the newer kind everybody has very many, of which the first half is the network's.
fn network_of(address: &str) -> String {
    match address.parse::<std::net::IpAddr>() {
        Ok(std::net::IpAddr::V6(v6)) => match v6.to_ipv4_mapped() {
            Some(v4) => v4.to_string(),
            None => {
                let [a, b, c, d, ..] = v6.segments();
                format!("{a:x}:{b:x}:{c:x}:{d:x}::/64")
            }
        },
        _ => address.chars().take(64).collect(),
    }
}

/// Does something with a password when it is its turn.
async fn in_turn<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T> {
    let turn = HASHING.take().await?;
    let working = tokio::task::spawn_blocking(move || {
        // Whoever left while this was done gives back no turn before it is.
        let _turn = turn;
        work()
    });
    working.await.map_err(|e| StoreError::Refused(e.to_string()))
}

/// What is kept of a password.
pub(crate) async fn hash(password: String) -> Result<String> {
    let hashed = in_turn(move || Argon2::default().hash_password(password.as_bytes()).map(|h| h.to_string())).await?;
    hashed.map_err(|e| StoreError::Refused(e.to_string()))
}

async fn verify(password: String, stored: Option<String>) -> Result<bool> {
    in_turn(move || match stored {
        Some(stored) => PasswordHash::new(&stored)
            .is_ok_and(|hash| Argon2::default().verify_password(password.as_bytes(), &hash).is_ok()),
        None => Argon2::default().hash_password(password.as_bytes()).is_err(),
    })
    .await
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_can_be_no_address_is_refused_at_the_door() {
        for email in ["", "a\0b@example.org", "a b@example.org", "a@example.org\n"] {
            assert!(!may_be_email(email), "{email:?}");
        }
        assert!(may_be_email("müller@example.org"));
    }

    #[test]
    fn addresses_of_a_network_are_one() {
        assert_eq!(network_of("2001:db8:1:2:3:4:5:6"), network_of("2001:db8:1:2::9"));
        assert_ne!(network_of("2001:db8:1:2::9"), network_of("2001:db8:1:3::9"));
        assert_eq!(network_of("::ffff:192.0.2.7"), "192.0.2.7");
        assert_eq!(network_of("192.0.2.7"), "192.0.2.7");
    }
}
