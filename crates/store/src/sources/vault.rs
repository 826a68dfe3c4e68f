//! Secrets at rest: sealed with a key that is not in the database.

use std::io::Write;
use std::path::Path;

use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use pronoia_core::model::hex;

/// Bytes of a key.
const KEY: usize = 32;

/// Bytes of a nonce, which stands before what is sealed.
const NONCE: usize = 24;

/// Seals and opens secrets (XChaCha20-Poly1305, a random nonce for each).
#[derive(Clone)]
pub struct Vault(XChaCha20Poly1305);

impl std::fmt::Debug for Vault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Vault").finish_non_exhaustive()
    }
}

impl Vault {
    /// With the key in a file of 64 hexadecimal digits, which is made up and
    /// written for its owner alone if it is not there.
    ///
    /// # Errors
    /// A sentence if the file cannot be read, written, or holds no key.
    pub fn open(file: &Path) -> Result<Self, String> {
        match std::fs::read_to_string(file) {
            Ok(text) => {
                let key = of_hexadecimal(text.trim()).ok_or_else(|| {
                    format!(
                        "The key file {} does not hold 64 hexadecimal digits. Put the right file back; without it, stored passwords cannot be read.",
                        file.display()
                    )
                })?;
                Ok(Self::of(&key))
            }
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
                let key: [u8; KEY] = rand::random();
                write(file, &key).map_err(|e| format!("The key file {} cannot be made: {e}.", file.display()))?;
                Ok(Self::of(&key))
            }
            Err(e) => Err(format!("The key file {} cannot be read: {e}.", file.display())),
        }
    }

    fn of(key: &[u8; KEY]) -> Self {
        Self(XChaCha20Poly1305::new(key.into()))
    }

    /// Seals a secret for what it is used with; it opens with the same words only.
    pub(super) fn seal(&self, secret: &str, used_with: &str) -> Option<Vec<u8>> {
        let nonce: [u8; NONCE] = rand::random();
        let payload = Payload { msg: secret.as_bytes(), aad: used_with.as_bytes() };
        let sealed = self.0.encrypt(&XNonce::from(nonce), payload).ok()?;
        Some([nonce.as_slice(), &sealed].concat())
    }

    /// Opens what was sealed; nothing if it was sealed with another key, for
    /// another use, or changed since.
    pub(super) fn unseal(&self, sealed: &[u8], used_with: &str) -> Option<String> {
        let (nonce, sealed) = sealed.split_first_chunk::<NONCE>()?;
        let payload = Payload { msg: sealed, aad: used_with.as_bytes() };
        String::from_utf8(self.0.decrypt(&XNonce::from(*nonce), payload).ok()?).ok()
    }
}

fn of_hexadecimal(text: &str) -> Option<[u8; KEY]> {
    if text.len() != 2 * KEY || !text.is_ascii() {
        return None;
    }
    let mut key = [0; KEY];
    for (byte, at) in key.iter_mut().zip((0..).step_by(2)) {
        *byte = u8::from_str_radix(&text[at..at + 2], 16).ok()?;
    }
    Some(key)
}

fn write(file: &Path, key: &[u8]) -> std::io::Result<()> {
    if let Some(folder) = file.parent() {
        std::fs::create_dir_all(folder)?;
    }
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    writeln!(options.open(file)?, "{}", hex(key))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_sealed_opens_with_its_key_and_use_only() {
        let vault = Vault::of(&[7; KEY]);
        let sealed = vault.seal("pässword", "warehouse").expect("sealed");
        assert_eq!(vault.unseal(&sealed, "warehouse").as_deref(), Some("pässword"));
        assert!(!sealed.windows(4).any(|w| w == b"sswo"));
        assert_ne!(vault.seal("pässword", "warehouse"), Some(sealed.clone()), "never the same twice");
        assert_eq!(vault.unseal(&sealed, "another host"), None);
        assert_eq!(Vault::of(&[8; KEY]).unseal(&sealed, "warehouse"), None);
        for at in 0..sealed.len() {
            let mut changed = sealed.clone();
            changed[at] ^= 1;
            assert_eq!(vault.unseal(&changed, "warehouse"), None, "byte {at}");
            assert_eq!(vault.unseal(&sealed[..at], "warehouse"), None, "cut at {at}");
        }
    }

    #[test]
    fn the_key_is_made_once_and_a_damaged_one_is_refused() {
        let folder = std::env::temp_dir().join(format!("pronoia-vault-{:016x}", rand::random::<u64>()));
        let file = folder.join("deeper/key");
        let sealed = Vault::open(&file).expect("made").seal("secret", "x").expect("sealed");
        assert_eq!(Vault::open(&file).expect("read").unseal(&sealed, "x").as_deref(), Some("secret"));
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            let mode = std::fs::metadata(&file).expect("there").permissions().mode();
            assert_eq!(mode & 0o077, 0, "nobody else may read it");
        }
        for damaged in ["", "12", &"g".repeat(64), &"é".repeat(32)] {
            std::fs::write(&file, damaged).expect("written");
            assert!(Vault::open(&file).expect_err(damaged).contains("64 hexadecimal digits"));
        }
        std::fs::remove_dir_all(folder).expect("removed");
    }
}
