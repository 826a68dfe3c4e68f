//! The workspace: people, keys, the archive, erasure, and what is found by name.

pub(crate) mod account;
pub(crate) mod api_keys;
pub(crate) mod archive;
pub(crate) mod erasure;
pub(crate) mod find;
pub(crate) mod glossary;
pub(crate) mod job;
pub(crate) mod people;
pub(crate) mod sign_in;
