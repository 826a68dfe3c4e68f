//! The computation against its definitions, reference figures and planted truths.

#[path = "../customers/mod.rs"]
mod customers;
#[path = "../files/mod.rs"]
mod files;

mod bad_files;
mod blends;
mod calibrations;
mod candidate_cautions;
mod cautions;
mod closer;
mod curves;
mod dealing;
mod decisions;
mod expressions;
mod families;
mod formats;
mod fuzzing;
mod history;
mod influence;
mod invariance;
mod judged;
mod learning;
mod mistakes;
mod offers;
mod pairs;
mod profiles;
mod properties;
mod reasons;
mod reference;
mod scoring;
mod search;
mod shapes;
mod splits;
mod steps;
mod vocabulary;
