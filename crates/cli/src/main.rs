//! `pronoia`: the server, the demonstration, and everything that is computed, headless.

mod backup;
mod batch;
mod blend;
mod decide;
mod economics;
mod evaluate;
mod export;
mod fit;
mod fitting;
mod place;
mod profile;
mod records;
mod score;
mod scoring;
mod serve;

use std::process::ExitCode;

use clap::{Parser, Subcommand};

/// Classifiers from customer records, policies by expected profit, scored lists.
#[derive(Parser)]
#[command(name = "pronoia", version)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Serve the pages.
    Serve(serve::Serve),
    /// Load the demonstration, once.
    Demo(serve::Demo),
    /// Make an account with a workspace of its own; the password is read from standard input.
    Account(serve::NewAccount),
    /// Write the database and all files into one file.
    Backup(backup::Backup),
    /// Fill an empty database from a backup.
    Restore(backup::Restore),
    /// Describe every column of a table.
    Profile(profile::Profile),
    /// Fit a model to a table.
    Fit(fit::FitCommand),
    /// Fit an ensemble of the families of several models.
    #[command(alias = "blend")]
    Ensemble(blend::EnsembleCommand),
    /// Score a list with a model.
    Score(score::Score),
    /// Score every list that is dropped into a folder.
    Batch(batch::Batch),
    /// Evaluate a model on rows that it was not fitted to.
    Evaluate(evaluate::Evaluate),
    /// Expected profit of a policy.
    Decide(decide::Decide),
    /// Export a model as SQL, PMML, ONNX or JSON.
    Export(export::Export),
}

/// One plain sentence about what went wrong.
type CommandOutcome = Result<(), String>;

fn main() -> ExitCode {
    // A damaged file is told in a sentence; the panic of its reader says nothing more.
    let loud = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        if !pronoia_core::intake::is_guarded() {
            loud(panic);
        }
    }));
    let outcome = match Arguments::parse().command {
        Command::Serve(c) => c.run(),
        Command::Demo(c) => c.run(),
        Command::Account(c) => c.run(),
        Command::Backup(c) => c.run(),
        Command::Restore(c) => c.run(),
        Command::Profile(c) => c.run(),
        Command::Fit(c) => c.run(),
        Command::Ensemble(c) => c.run(),
        Command::Score(c) => c.run(),
        Command::Batch(c) => c.run(),
        Command::Evaluate(c) => c.run(),
        Command::Decide(c) => c.run(),
        Command::Export(c) => c.run(),
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(sentence) => {
            eprintln!("{sentence}");
            ExitCode::from(2)
        }
    }
}
