//! A model as it is carried elsewhere.

/// A model in a form.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ExportedModel {
    /// The file.
    pub bytes: Vec<u8>,
    /// What is lost or to be minded, in sentences.
    pub notes: Vec<String>,
}
