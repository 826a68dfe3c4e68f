//! What outcomes are worth and on whom to act, read from a TOML file; `examples/economics.toml` says
//! what may stand in one.

use std::path::Path;

use pronoia_core::decide::{
    Amount, Assumption, CutOff, Economics, EventRate, Offer, Offers, Order, Policy, Population, Rule,
};
use pronoia_core::expression::Type;
use pronoia_core::question::Question;
use toml_edit::{DocumentMut, Item, Table, Value};

/// What the file says.
#[derive(Debug)]
pub struct EconomicsFile {
    pub economics: Economics,
    pub offers: Offers,
    /// On whom to act; none if it does not say where the line is.
    pub rule: Option<Rule>,
    /// Who comes first, and what holds wherever the line is.
    pub by: Order,
    pub limits: Vec<CutOff>,
    pub refer_from: Option<f64>,
    pub customers: f64,
    /// Share of them with the event.
    pub event_rate: Option<f64>,
}

/// Words that say where the line is; at most one of them.
const LINES: [&str; 6] = ["cut_off", "gain", "customers", "share", "budget", "precision"];

/// Everything else that is no amount.
const OTHERS: [&str; 10] = [
    "kind",
    "offer",
    "offers",
    "population",
    "event_rate",
    "by",
    "refer_from",
    "most_customers",
    "most_money",
    "least_precision",
];

/// Reads the file; formulas may use the columns given.
pub fn read(path: &Path, columns: &[(String, Type)]) -> Result<EconomicsFile, String> {
    let text = std::fs::read_to_string(path).map_err(|e| format!("{}: {e}.", path.display()))?;
    understand(&text, columns).map_err(|wrong| format!("{}: {wrong}", path.display()))
}

impl EconomicsFile {
    /// Whom the money is for; `judged` is the event rate of the rows judged.
    pub fn population(&self, judged: f64) -> Population {
        let event_rate = self.event_rate.map(|population| EventRate { judged, population });
        Population { customers: Some(self.customers), event_rate }
    }

    /// The policy with a line of its own, or the one given.
    pub fn policy(&self, or: CutOff) -> Policy {
        let undecided = || Rule { by: self.by, line: or, limits: self.limits.clone(), refer_from: self.refer_from };
        Policy {
            economics: self.economics.clone(),
            offers: self.offers.clone(),
            rule: self.rule.clone().unwrap_or_else(undecided),
        }
    }
}

fn understand(text: &str, columns: &[(String, Type)]) -> Result<EconomicsFile, String> {
    let document: DocumentMut =
        text.parse().map_err(|e: toml_edit::TomlError| format!("not TOML: {}.", e.message()))?;
    let economics = amounts(&document, columns)?;
    let offers = offers(&document, &economics, columns)?;
    let customers = number(&document, "population")?.unwrap_or(1_000.0);
    if !(1.0..=1e10).contains(&customers) {
        return Err(format!("“population” is a number of customers, 1 or more; it is {customers}."));
    }
    let event_rate = number(&document, "event_rate")?;
    if let Some(wrong) = event_rate.filter(|rate| !(*rate > 0.0 && *rate < 1.0)) {
        return Err(format!("“event_rate” is a share above 0 and below 1; it is {wrong}."));
    }
    let by = match document.get("by").map(|by| by.as_str()) {
        None => Order::Probability,
        Some(Some("probability")) => Order::Probability,
        Some(Some("gain")) => Order::Gain,
        Some(Some("gain-per-cost")) => Order::GainPerCost,
        Some(_) => return Err("“by” is one of \"probability\", \"gain\" and \"gain-per-cost\".".into()),
    };
    let lines = LINES.iter().filter_map(|word| line(&document, word, by).transpose()).collect::<Result<Vec<_>, _>>()?;
    if lines.len() > 1 {
        return Err(format!("the cut-off is given more than once; keep one of {}.", LINES.join(", ")));
    }
    let limits = ["most_customers", "most_money", "least_precision"]
        .iter()
        .filter_map(|word| line(&document, word, by).transpose())
        .collect::<Result<Vec<_>, _>>()?;
    let refer_from = number(&document, "refer_from")?;
    if let Some(wrong) = refer_from.filter(|from| !(0.0..=1.0).contains(from)) {
        return Err(format!("“refer_from” is a probability, 0 to 1; it is {wrong}."));
    }
    if refer_from.is_some() && economics.typical().payoffs().refer.is_none() {
        return Err("“refer_from” needs kind = \"credit\": other questions have no manual review.".into());
    }
    let rule = lines.first().map(|&line| Rule { by, line, limits: limits.clone(), refer_from });
    Ok(EconomicsFile { economics, offers, rule, by, limits, refer_from, customers, event_rate })
}

fn amounts(document: &DocumentMut, columns: &[(String, Type)]) -> Result<Economics, String> {
    let question = match document.get("kind").and_then(Item::as_str) {
        Some("churn") => Question::Churn,
        Some("credit") => Question::Credit,
        Some("response") => Question::Response,
        Some("plain") => Question::Other,
        other => {
            let kinds = "kind = \"churn\", \"credit\", \"response\" or \"plain\"";
            return Err(match other {
                Some(other) => format!("there is no kind “{other}”; write {kinds}."),
                None => format!("say which question it is: {kinds}."),
            });
        }
    };
    let usual = Economics::usual(question).chosen();
    let assumptions: Vec<_> = usual.amounts().into_iter().map(|(assumption, _)| assumption).collect();
    let known = |word: &str| {
        OTHERS.contains(&word) || LINES.contains(&word) || assumptions.iter().any(|assumption| assumption.word == word)
    };
    if let Some((word, _)) = document.iter().find(|(word, _)| !known(word)) {
        let all: Vec<&str> = assumptions.iter().map(|a| a.word).chain(OTHERS).chain(LINES).collect();
        return Err(format!("“{word}” means nothing here; there are {}.", all.join(", ")));
    }
    let mut economics = usual.clone();
    for assumption in &assumptions {
        let word = assumption.word;
        match amount(document, word, columns)? {
            Some(amount) => economics = economics.with(word, amount),
            None if assumption.optional => {}
            None => return Err(format!("“{word}” is missing ({}).", assumption.name.to_lowercase())),
        }
    }
    economics.check().map_err(|e| e.to_string())?;
    Ok(economics)
}

/// Offers beside the one that the amounts are of: a name, and what is different.
fn offers(document: &DocumentMut, economics: &Economics, columns: &[(String, Type)]) -> Result<Offers, String> {
    let first = match document.get("offer").map(Item::as_str) {
        None => String::new(),
        Some(Some(name)) => name.to_owned(),
        Some(None) => return Err("“offer” is the name of the first offer, such as offer = \"fee holiday\".".into()),
    };
    let tables = match document.get("offers") {
        None => return Ok(Offers { first, others: Vec::new() }),
        Some(Item::ArrayOfTables(tables)) => tables,
        Some(_) => return Err("other offers are written below the rest, each under a line [[offers]].".into()),
    };
    let assumptions = economics.amounts_of_offers();
    let offer = |table: &Table| {
        let name = table.get("name").and_then(Item::as_str).unwrap_or_default().trim().to_owned();
        if name.is_empty() {
            return Err("every one of [[offers]] needs a name, such as name = \"free check-up\".".into());
        }
        let is_known = |word: &str| word == "name" || assumptions.iter().any(|a| a.word == word);
        if let Some((word, _)) = table.iter().find(|(word, _)| !is_known(word)) {
            let all: Vec<&str> = assumptions.iter().map(|a| a.word).collect();
            return Err(format!("“{word}” of “{name}” means nothing; offers differ in {}.", all.join(", ")));
        }
        let own = |assumption: &Assumption| {
            let amount = amount(table, assumption.word, columns).map_err(|wrong| format!("“{name}”: {wrong}"));
            amount.map(|amount| amount.map(|amount| (assumption.word.to_owned(), amount))).transpose()
        };
        let amounts = assumptions.iter().filter_map(own).collect::<Result<_, String>>()?;
        Ok(Offer { name, amounts })
    };
    let offers = Offers { first, others: tables.iter().map(offer).collect::<Result<_, String>>()? };
    offers.check(economics).map_err(|wrong| wrong.to_string())?;
    Ok(offers)
}

/// An amount of a table: a number, or an expression in quotes.
fn amount(table: &Table, word: &str, columns: &[(String, Type)]) -> Result<Option<Amount>, String> {
    match table.get(word).map(Item::as_value) {
        Some(Some(Value::String(sql))) => {
            Amount::typed(sql.value(), columns).map(Some).map_err(|e| format!("“{word}”: {e}"))
        }
        _ => Ok(number(table, word)?.map(Amount::Same)),
    }
}

fn line(document: &DocumentMut, word: &str, by: Order) -> Result<Option<CutOff>, String> {
    let Some(value) = number(document, word)? else { return Ok(None) };
    let share = |value: f64, line: fn(f64) -> CutOff| {
        if (0.0..=1.0).contains(&value) {
            Ok(Some(line(value)))
        } else {
            Err(format!(
                "“{word}” is {}, 0 to 1; it is {value}.",
                if word == "cut_off" { "a probability" } else { "a share" }
            ))
        }
    };
    let amount = |value: f64, line: fn(f64) -> CutOff| {
        if value >= 0.0 { Ok(Some(line(value))) } else { Err(format!("“{word}” is 0 or more; it is {value}.")) }
    };
    match word {
        "cut_off" if by != Order::Probability => {
            Err("“cut_off” needs by = \"probability\"; write gain instead.".into())
        }
        "gain" if by == Order::Probability => Err("“gain” needs by = \"gain\" or \"gain-per-cost\".".into()),
        "cut_off" => share(value, CutOff::Least),
        "gain" => amount(value, |gain| CutOff::Least(gain.max(f64::MIN_POSITIVE))),
        "share" => share(value, CutOff::Share),
        "precision" | "least_precision" => share(value, CutOff::Precision),
        "customers" | "most_customers" => amount(value, CutOff::Customers),
        _ => amount(value, CutOff::Budget),
    }
}

fn number(table: &Table, word: &str) -> Result<Option<f64>, String> {
    let Some(item) = table.get(word) else { return Ok(None) };
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

    fn fee() -> Vec<(String, Type)> {
        vec![("fee".into(), Type::Number)]
    }

    #[test]
    fn a_file_says_what_outcomes_are_worth_and_on_whom_to_act() {
        let asked = understand(&format!("{CHURN}population = 3_000\n"), &fee()).expect("read");
        assert!((asked.economics.typical().payoffs().act.event - 34.2).abs() < 1e-9);
        assert_eq!((asked.customers, &asked.rule), (3_000.0, &None));
        let asked =
            understand("kind = \"plain\"\nact_event = 20\nact_other = -2\ncut_off = 0.1", &fee()).expect("read");
        assert_eq!(asked.rule, Some(Rule::cut_off(0.1)));
        let asked = understand(
            &format!("{CHURN}offer = \"fee holiday\"\n[[offers]]\nname = \"gift\"\nsave_rate = \"0.001 * fee\"\n"),
            &fee(),
        )
        .expect("read");
        assert_eq!(asked.offers.names(), ["fee holiday", "gift"]);
        assert_eq!(asked.policy(CutOff::Share(0.1)).inputs(), ["fee"]);
        let credit = "kind = \"credit\"\nmargin = \"0.1 * fee\"\nexposure = 500\nloss_rate = 0.6\nshare = 0.1\n\
                      refer_from = 0.05\nmost_customers = 40\nevent_rate = 0.02";
        let asked = understand(credit, &fee()).expect("read");
        assert_eq!(asked.economics.inputs(), ["fee"]);
        let rule = asked.rule.expect("a line");
        assert_eq!((rule.line, rule.refer_from), (CutOff::Share(0.1), Some(0.05)));
        assert_eq!((rule.limits, asked.event_rate), (vec![CutOff::Customers(40.0)], Some(0.02)));
    }

    #[test]
    fn what_is_wrong_with_it_is_said() {
        for (text, says) in [
            ("value_kept = 1", "kind = \"churn\""),
            ("kind = \"lottery\"", "no kind “lottery”"),
            ("kind = \"plain\"\nact_event = 1", "“act_other” is missing (acting, without)"),
            ("kind = \"plain\"\nact_event = \"much\"\nact_other = 1", "“act_event”: "),
            ("kind = \"plain\"\nact_event = [1]\nact_other = 1", "“act_event” must be a number"),
            (&CHURN.replace("0.3\n", "30\n"), "between 0 and 100 %"),
            (&CHURN.replace("save_rate", "saverate"), "“saverate” means nothing here"),
            (&format!("{CHURN}cut_off = 25"), "“cut_off” is a probability"),
            (&format!("{CHURN}cut_off = 0.2\nshare = 0.1"), "more than once"),
            (&format!("{CHURN}by = \"gain\"\ncut_off = 0.2"), "write gain instead"),
            (&format!("{CHURN}refer_from = 0.2"), "kind = \"credit\""),
            (&format!("{CHURN}population = 0"), "“population”"),
            (&format!("{CHURN}event_rate = 1.5"), "“event_rate”"),
            ("kind = churn", "not TOML"),
            (&format!("{CHURN}[[offers]]\nsave_rate = 0.5"), "needs a name"),
            (&format!("{CHURN}[[offers]]\nname = \"gift\"\nvalue_kept = 5"), "“value_kept” of “gift” means nothing"),
            (&format!("{CHURN}[[offers]]\nname = \"gift\"\nsave_rate = 5"), "“gift”: “Save rate”"),
            (&format!("{CHURN}[[offers]]\nname = \"gift\"\n[[offers]]\nname = \"Gift\""), "called “Gift”"),
            (
                "kind = \"credit\"\nmargin = 9\nexposure = 5\nloss_rate = 0.5\n[[offers]]\nname = \"x\"",
                "approved or declined",
            ),
        ] {
            let said = understand(text, &fee()).expect_err("refused");
            assert!(said.contains(says), "{text}: {said}");
        }
    }
}
