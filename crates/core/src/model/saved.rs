//! The form in which a model is saved: JSON with a version and a checksum.

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use super::{Model, ModelError, hex};

/// The version of the form in which models are saved.
const VERSION: u32 = 6;

/// The oldest version that can still be read.
const OLDEST: u32 = 6;

/// The saved form: the model with a checksum over its text.
#[derive(Serialize, Deserialize)]
struct SavedModel {
    pronoia_model: u32,
    sha256: String,
    model: Box<serde_json::value::RawValue>,
}

impl Model {
    /// The saved form, as JSON with a version and a checksum.
    ///
    /// # Errors
    /// [`ModelError::Saved`] if the model holds what JSON cannot.
    pub fn to_bytes(&self) -> Result<Vec<u8>, ModelError> {
        let saved = |e: serde_json::Error| ModelError::Saved(e.to_string());
        let model = serde_json::value::to_raw_value(self).map_err(saved)?;
        let sha256 = hex(&Sha256::digest(model.get().as_bytes()));
        serde_json::to_vec(&SavedModel { pronoia_model: VERSION, sha256, model }).map_err(saved)
    }

    /// Reads the saved form.
    ///
    /// # Errors
    /// [`ModelError::Saved`] if it is no model, of another version, or was changed.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, ModelError> {
        let refuse = |what: String| ModelError::Saved(what);
        let saved: SavedModel = serde_json::from_slice(bytes)
            .map_err(|e| refuse(format!("This is not a saved model, or it was cut short: {e}.")))?;
        if !(OLDEST..=VERSION).contains(&saved.pronoia_model) {
            return Err(refuse(format!(
                "The model was saved in form {}; this program reads form {VERSION}. Fit it again.",
                saved.pronoia_model
            )));
        }
        if hex(&Sha256::digest(saved.model.get().as_bytes())) != saved.sha256 {
            return Err(refuse("The model was changed after it was saved: its checksum does not fit.".into()));
        }
        serde_json::from_str(saved.model.get()).map_err(|e| refuse(format!("The model cannot be read: {e}.")))
    }
}
