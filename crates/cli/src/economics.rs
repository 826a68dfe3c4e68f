//! What outcomes are worth, read from a TOML file; `examples/economics.toml` says what may stand in one.

use std::path::Path;

use pronoia_core::decide::{ChurnAmounts, Economics, PlainAmounts};
use toml_edit::{DocumentMut, Item, Value};

/// What the file says.
pub struct Asked {
    pub economics: Economics,
    pub population: f64,
    pub cut_off: Option<f64>,
}

/// What may be left out of a plain table.
const OPTIONAL: [&str; 2] = ["leave_event", "leave_other"];

/// Reads the file.
pub fn read(path: &Path) -> Result<Asked, String> {
    let text = std::fs::read_to_string(path).map_err(|e| format!("{}: {e}.", path.display()))?;
    understand(&text).map_err(|wrong| format!("{}: {wrong}", path.display()))
}

fn understand(text: &str) -> Result<Asked, String> {
    let document: DocumentMut =
        text.parse().map_err(|e: toml_edit::TomlError| format!("not TOML: {}.", e.message()))?;
    let mut economics = match document.get("kind").and_then(Item::as_str) {
        Some("churn") => Economics::Churn(ChurnAmounts {
            value_kept: 0.0,
            save_rate: 0.0,
            offer_cost: 0.0,
            stayers_take: 0.0,
            contact_cost: 0.0,
        }),
        Some("plain") => {
            Economics::Plain(PlainAmounts { act_event: 0.0, act_other: 0.0, leave_event: 0.0, leave_other: 0.0 })
        }
        Some(other) => return Err(format!("there is no kind “{other}”; write kind = \"churn\" or kind = \"plain\".")),
        None => return Err("say which question it is: kind = \"churn\" or kind = \"plain\".".into()),
    };
    let assumptions = economics.assumptions();
    let known = |word: &str| {
        ["kind", "population", "cut_off"].contains(&word)
            || assumptions.iter().any(|assumption| assumption.word == word)
    };
    if let Some((word, _)) = document.iter().find(|(word, _)| !known(word)) {
        let all: Vec<&str> = assumptions.iter().map(|a| a.word).chain(["population", "cut_off"]).collect();
        return Err(format!("“{word}” means nothing here; there are {}.", all.join(", ")));
    }
    for assumption in &assumptions {
        match number(&document, assumption.word)? {
            Some(value) => economics = economics.with(assumption, value),
            None if OPTIONAL.contains(&assumption.word) => {}
            None => return Err(format!("“{}” is missing ({}).", assumption.word, assumption.name.to_lowercase())),
        }
    }
    economics.check().map_err(|e| e.to_string())?;
    let population = number(&document, "population")?.unwrap_or(1_000.0);
    if !(1.0..=1e10).contains(&population) {
        return Err(format!("“population” is a number of customers, 1 or more; it is {population}."));
    }
    let cut_off = number(&document, "cut_off")?;
    if let Some(wrong) = cut_off.filter(|cut_off| !(0.0..=1.0).contains(cut_off)) {
        return Err(format!("“cut_off” is a probability, 0 to 1; it is {wrong}."));
    }
    Ok(Asked { economics, population, cut_off })
}

fn number(document: &DocumentMut, word: &str) -> Result<Option<f64>, String> {
    let Some(item) = document.get(word) else { return Ok(None) };
    match item.as_value() {
        Some(Value::Float(x)) => Ok(Some(*x.value())),
        Some(Value::Integer(n)) => Ok(Some(*n.value() as f64)),
        _ => Err(format!("“{word}” must be a number, such as {word} = 12.5.")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const CHURN: &str = "kind = \"churn\"\nvalue_kept = 146\nsave_rate = 0.3\noffer_cost = 24\nstayers_take = 0.35\n\
                         contact_cost = 2.4 # each\n";

    #[test]
    fn a_file_says_what_outcomes_are_worth() {
        let asked = understand(&format!("{CHURN}population = 3_000\n")).expect("read");
        assert!((asked.economics.prices().act_event - 34.2).abs() < 1e-9);
        assert_eq!((asked.population, asked.cut_off), (3_000.0, None));
        let asked = understand("kind = \"plain\"\nact_event = 20\nact_other = -2\ncut_off = 0.1").expect("read");
        assert_eq!((asked.economics.prices().act_other, asked.cut_off), (-2.0, Some(0.1)));
    }

    #[test]
    fn what_is_wrong_with_it_is_said() {
        for (text, says) in [
            ("value_kept = 1", "kind = \"churn\""),
            ("kind = \"credit\"", "no kind “credit”"),
            ("kind = \"plain\"\nact_event = 1", "“act_other” is missing (acting, without)"),
            ("kind = \"plain\"\nact_event = \"much\"\nact_other = 1", "“act_event” must be a number"),
            (&CHURN.replace("0.3\n", "30\n"), "between 0 and 100 %"),
            (&CHURN.replace("save_rate", "saverate"), "“saverate” means nothing here"),
            (&format!("{CHURN}cut_off = 25"), "“cut_off” is a probability"),
            (&format!("{CHURN}population = 0"), "“population”"),
            ("kind = churn", "not TOML"),
        ] {
            let said = understand(text).err().expect("refused");
            assert!(said.contains(says), "{text}: {said}");
        }
    }
}
