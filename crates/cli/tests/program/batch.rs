//! Lists dropped into a folder: scored, refused with the reason, and never half-made.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use pronoia_demo::{FIRST_MEMBER, FIRST_RENEWAL, SEED, members, outcome_csv, renewals_csv};
use serde_json::Value;

fn pronoia(folder: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_pronoia"));
    command.current_dir(folder).args(arguments);
    command
}

/// A folder with a model, and nothing dropped yet.
fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    let at = |name: &str| folder.path().join(name);
    std::fs::write(at("members.csv"), outcome_csv(&members(2_000, SEED, FIRST_MEMBER))).expect("written");
    let fit = ["fit", "members.csv", "--outcome", "cancelled", "--event", "yes", "--family", "scorecard"];
    let fit = [&fit[..], &["--leave-out", "exit_survey_sent,days_since_last_login", "--model", "model.json"]].concat();
    assert!(pronoia(folder.path(), &fit).output().expect("the program runs").status.success());
    std::fs::create_dir(at("in")).expect("made");
    folder
}

fn manifest(folder: &Path, name: &str) -> Value {
    let path = folder.join("out").join(format!("{name}.manifest.json"));
    serde_json::from_str(&std::fs::read_to_string(path).expect("a manifest")).expect("JSON")
}

fn names(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder).expect("a folder");
    let mut names: Vec<String> = entries.map(|e| e.expect("an entry").file_name().to_string_lossy().into()).collect();
    names.sort();
    names
}

#[test]
fn lists_are_scored_or_refused_with_the_reason_and_what_does_not_fit_is_beside_them() {
    let folder = folder();
    let inbox = folder.path().join("in");
    let clean = renewals_csv(&members(300, SEED + 1, FIRST_RENEWAL));
    std::fs::write(inbox.join("clean.csv"), &clean).expect("written");
    let damaged = [&clean[..], b"too,few,fields\n"].concat();
    std::fs::write(inbox.join("damaged.csv"), damaged).expect("written");
    std::fs::write(inbox.join("other.csv"), "a,b\n1,2\n3,4\n").expect("written");
    std::fs::write(inbox.join(".being-copied.csv"), &clean).expect("written");
    let batch = ["batch", "in", "out", "--model", "model.json", "--cut-off", "0.3"];
    let ran = pronoia(folder.path(), &batch).output().expect("the program runs");
    let said = String::from_utf8_lossy(&ran.stderr).into_owned();
    assert!(ran.status.code() == Some(2) && said.contains("1 of 3 lists were refused"), "{said}");

    let told = manifest(folder.path(), "clean");
    let scored = std::fs::read_to_string(folder.path().join("out/clean.scored.csv")).expect("scored");
    assert_eq!((told["scored"]["rows"].as_u64(), scored.lines().count()), (Some(300), 301));
    let acted = scored.lines().filter(|line| line.ends_with(",act")).count() as u64;
    assert_eq!(told["scored"]["to_act_on"].as_u64(), Some(acted));
    assert!(told["refused"].is_null() && told["rejected_rows"] == 0 && told["bytes"] == clean.len());
    let told = manifest(folder.path(), "damaged");
    assert_eq!((told["rejected_rows"].as_u64(), told["scored"]["rows"].as_u64()), (Some(1), Some(300)));
    let rejects = std::fs::read_to_string(folder.path().join("out/damaged.rejects.csv")).expect("rejects");
    assert!(rejects.contains("302,") && rejects.contains("too,few,fields"), "{rejects}");
    let told = manifest(folder.path(), "other");
    assert!(told["refused"].as_str().is_some_and(|why| why.contains("columns that are not there")), "{told}");
    assert_eq!(names(&inbox), [".being-copied.csv", "done", "refused"]);
    assert_eq!((names(&inbox.join("done")).len(), names(&inbox.join("refused")).len()), (2, 1));

    // The same name again takes nothing from what was made before.
    std::fs::write(inbox.join("clean.csv"), &clean).expect("written");
    assert!(pronoia(folder.path(), &batch).status().expect("the program runs").success());
    assert_eq!(manifest(folder.path(), "clean 2")["sha256"], manifest(folder.path(), "clean")["sha256"]);
    assert!(names(&folder.path().join("out")).contains(&"clean 2.scored.csv".to_owned()));
    let wrong = pronoia(folder.path(), &["batch", "in", "out", "--model", "model.json", "--format", "pdf"]);
    let wrong = { wrong }.output().expect("the program runs");
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("There is no format “pdf”"));
}

#[test]
fn a_folder_is_watched_and_a_list_is_taken_once_it_is_whole() {
    let folder = folder();
    let inbox = folder.path().join("in");
    let batch = ["batch", "in", "out", "--model", "model.json", "--watch", "1", "--format", "jsonl"];
    let mut watching = pronoia(folder.path(), &batch).stderr(Stdio::null()).spawn().expect("the program runs");
    let rows = 40_000;
    let list = renewals_csv(&members(rows, SEED + 1, FIRST_RENEWAL));
    // It comes in pieces, each a moment after the other.
    let began = Instant::now();
    let mut file = std::fs::File::create(inbox.join("slow.csv")).expect("a file");
    for piece in list.chunks(list.len() / 20 + 1) {
        std::io::Write::write_all(&mut file, piece).expect("written");
        std::thread::sleep(Duration::from_millis(150));
    }
    drop(file);
    let manifest_path = folder.path().join("out/slow.manifest.json");
    while !manifest_path.exists() {
        assert!(began.elapsed() < Duration::from_secs(120), "nothing came of it");
        std::thread::sleep(Duration::from_millis(50));
    }
    watching.kill().expect("killed");
    watching.wait().expect("ended");
    let told = manifest(folder.path(), "slow");
    assert_eq!((told["scored"]["rows"].as_u64(), told["bytes"].as_u64()), (Some(rows as u64), Some(list.len() as u64)));
    let scored = std::fs::read_to_string(folder.path().join("out/slow.scored.jsonl")).expect("scored");
    assert_eq!(scored.lines().count(), rows);
}
