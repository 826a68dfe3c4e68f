//! Keys that programs carry: made once, shown once, kept as digests.

use pronoia_core::model::hex;
use rand::RngExt;
use sha2::{Digest, Sha256};

/// Letters of a key that are shown afterwards.
const SHOWN: usize = 8;

/// A key that was just made.
pub(crate) struct NewKeySecret {
    /// In the clear.
    pub key: String,
    /// What is kept of it.
    pub sha256: String,
    /// Its first letters, to tell it from others.
    pub begins: String,
}

/// Makes a key whose first letters say what it is for.
pub(crate) fn make(prefix: &str) -> NewKeySecret {
    let bytes: [u8; 24] = rand::rng().random();
    let key = format!("{prefix}_{}", hex(&bytes));
    NewKeySecret { sha256: digest(&key), begins: key.chars().take(SHOWN).collect(), key }
}

/// What is kept of a key.
pub(crate) fn digest(key: &str) -> String {
    hex(&Sha256::digest(key.as_bytes()))
}
