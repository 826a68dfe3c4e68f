//! What can be set of a family, said once: forms, the command line, the checks and the
//! documentation all read it from here.

use std::fmt;
use std::ops::Deref;

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use super::FitError;
use pronoia_data::number::count;

/// One setting of a family.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Setting {
    /// The word for it on the command line: `learning-rate`.
    pub name: &'static str,
    /// What it is called in a form.
    pub label: &'static str,
    /// What it may be.
    pub range: Range,
    /// What it does, in a sentence.
    pub help: &'static str,
}

/// What a setting may be.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Range {
    /// A whole number between two, both included.
    Count(u64, u64),
    /// A number between two, both included.
    Number(f64, f64),
    /// A number above the first and at most the second.
    Above(f64, f64),
    /// Yes or no.
    YesNo,
    /// One of these words.
    OneOf(&'static [&'static str]),
    /// Names of columns with commas between; may be empty.
    Columns,
}

impl fmt::Display for Range {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Count(least, most) => write!(f, "a whole number from {least} to {}", count(*most)),
            Self::Number(least, most) if most.is_infinite() => write!(f, "{least} or more"),
            Self::Number(least, most) => write!(f, "from {least} to {most}"),
            Self::Above(least, most) if most.is_infinite() => write!(f, "above {least}"),
            Self::Above(least, most) => write!(f, "above {least} and at most {most}"),
            Self::YesNo => f.write_str("yes or no"),
            Self::OneOf(words) => write!(f, "one of {}", words.join(", ")),
            Self::Columns => f.write_str("names of columns with commas between"),
        }
    }
}

impl Setting {
    /// A setting that forms and the command line know by these words.
    pub const fn new(name: &'static str, label: &'static str, range: Range, help: &'static str) -> Self {
        Self { name, label, range, help }
    }

    fn refused(&self, value: &str) -> FitError {
        FitError::Setting { setting: self.name, range: self.range.to_string(), value: value.into() }
    }

    /// What was written, as a value in range.
    fn parse(&self, written: &str) -> Result<Value, FitError> {
        let written = written.trim();
        let value = match self.range {
            Range::Count(..) => written.parse::<u64>().ok().map(Value::from),
            Range::Number(..) | Range::Above(..) => written.parse::<f64>().ok().map(Value::from),
            Range::YesNo => match written {
                "yes" | "true" => Some(Value::Bool(true)),
                "no" | "false" => Some(Value::Bool(false)),
                _ => None,
            },
            Range::OneOf(_) => Some(Value::from(written)),
            Range::Columns => {
                let names = written.split(',').map(str::trim).filter(|name| !name.is_empty());
                Some(names.map(Value::from).collect())
            }
        };
        value.filter(|value| self.allows(value)).ok_or_else(|| self.refused(written))
    }

    fn allows(&self, value: &Value) -> bool {
        let number = || value.as_f64().filter(|x| x.is_finite());
        match self.range {
            Range::Count(least, most) => value.as_u64().is_some_and(|n| (least..=most).contains(&n)),
            Range::Number(least, most) => number().is_some_and(|x| x >= least && x <= most),
            Range::Above(least, most) => number().is_some_and(|x| x > least && x <= most),
            Range::YesNo => value.is_boolean(),
            Range::OneOf(words) => value.as_str().is_some_and(|word| words.contains(&word)),
            Range::Columns => value.is_array(),
        }
    }
}

/// Settings that a family may be given.
///
/// Their fields are named as the settings are, with `_` for `-`, which
/// [`Tunable::set`] relies on and a test of every family holds them to.
pub trait Tunable: Default + Clone + Serialize + DeserializeOwned {
    /// The family within a sentence: “boosted trees”.
    const FAMILY: &'static str;
    /// Every setting there is.
    const SETTINGS: &'static [Setting];

    /// Changes one setting by name.
    ///
    /// # Errors
    /// [`FitError::UnknownSetting`] if there is none of that name,
    /// [`FitError::Setting`] if the value is out of range.
    fn set(&mut self, name: &str, written: &str) -> Result<(), FitError> {
        let Some(setting) = Self::SETTINGS.iter().find(|s| s.name == name) else {
            let known: Vec<&str> = Self::SETTINGS.iter().map(|s| s.name).collect();
            let known = known.join(", ");
            return Err(FitError::UnknownSetting { setting: name.into(), family: Self::FAMILY, known });
        };
        let mut all = self.values();
        all[field(name)] = setting.parse(written)?;
        *self = serde_json::from_value(all).map_err(|_| setting.refused(written))?;
        Ok(())
    }

    /// What a setting is at present, as [`Tunable::set`] would be given it.
    fn written(&self, name: &str) -> String {
        match &self.values()[field(name)] {
            Value::String(word) => word.clone(),
            Value::Bool(yes) => if *yes { "yes" } else { "no" }.into(),
            Value::Array(names) => names.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(", "),
            Value::Number(number) => number.as_f64().map_or(number.to_string(), |x| x.to_string()),
            Value::Null | Value::Object(_) => String::new(),
        }
    }

    /// Checks every setting once; a family only fits with what this gives.
    ///
    /// # Errors
    /// [`FitError::Setting`] for the first that is out of range.
    fn check(&self) -> Result<CheckedSettings<Self>, FitError> {
        let all = self.values();
        match Self::SETTINGS.iter().find(|s| !s.allows(&all[field(s.name)])) {
            None => Ok(CheckedSettings(self.clone())),
            Some(setting) => Err(setting.refused(&all[field(setting.name)].to_string())),
        }
    }

    /// All values by the names of their fields.
    fn values(&self) -> Value {
        serde_json::to_value(self).unwrap_or_default()
    }
}

fn field(name: &str) -> String {
    name.replace('-', "_")
}

/// Settings that were checked.
#[derive(Debug, Clone)]
pub struct CheckedSettings<S>(S);

impl<S> Deref for CheckedSettings<S> {
    type Target = S;

    fn deref(&self) -> &S {
        &self.0
    }
}
