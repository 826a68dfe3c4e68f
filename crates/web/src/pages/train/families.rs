//! The families there are, as forms and as a page of documentation each.

use actix_web::web;
use askama::Template;
use pronoia_core::learn::setting::{Range, Setting};
use pronoia_core::learn::{Family, Settings};
use pronoia_core::model::Recipe;
use pronoia_service::ServiceError;
use serde::Deserialize;

use crate::App;
use crate::error::{PageResult, html};
use crate::frame::Frame;
use crate::session::Visitor;

/// A family with its settings as they are proposed.
pub struct FamilyForm {
    pub family: Family,
    pub fields: Vec<SettingField>,
}

/// A setting as a form shows it.
pub struct SettingField {
    pub name: &'static str,
    pub label: &'static str,
    pub help: &'static str,
    /// What it may be, in words.
    pub range: String,
    /// As proposed.
    pub value: String,
    /// What there is to choose from, and what is proposed; empty where it is written.
    pub choices: Vec<(&'static str, bool)>,
    /// Whether it is a number.
    pub numeric: bool,
}

impl FamilyForm {
    /// Every family.
    pub fn all() -> Vec<Self> {
        Family::ALL.into_iter().filter_map(Self::of).collect()
    }

    fn of(family: Family) -> Option<Self> {
        let proposed = Settings::of_family(family.word)?;
        let field = |setting: &Setting| {
            let value = proposed.written(setting.name);
            let words: &[&str] = match setting.range {
                Range::YesNo => &["yes", "no"],
                Range::OneOf(words) => words,
                _ => &[],
            };
            SettingField {
                name: setting.name,
                label: setting.label,
                help: setting.help,
                range: setting.range.to_string(),
                choices: words.iter().map(|&word| (word, value == word)).collect(),
                numeric: matches!(setting.range, Range::Count(..) | Range::Number(..) | Range::Above(..)),
                value,
            }
        };
        Some(Self { family, fields: proposed.definitions().iter().map(field).collect() })
    }
}

/// The settings that are not as proposed, in words.
pub fn described(settings: &Settings) -> String {
    let Some(proposed) = Settings::of_family(settings.family().word) else { return String::new() };
    let changed = settings.definitions().iter().filter(|s| settings.written(s.name) != proposed.written(s.name));
    let words: Vec<String> =
        changed.map(|s| format!("{} {}", s.label.to_lowercase(), settings.written(s.name))).collect();
    if words.is_empty() { "default".into() } else { words.join(", ") }
}

/// What a candidate is made by, in words.
pub fn made_by(recipe: &Recipe) -> String {
    match recipe {
        Recipe::One(settings) => described(settings),
        Recipe::Calibrated { calibrated } => format!("calibrated, {}", described(calibrated)),
        Recipe::Blend(blend) => {
            let names: Vec<String> = blend.members.iter().map(|member| member.name().to_lowercase()).collect();
            format!("of {}", names.join(", "))
        }
    }
}

#[derive(Template)]
#[template(path = "train/family.html")]
struct FamilyPage {
    frame: Frame,
    form: FamilyForm,
    others: Vec<Family>,
}

/// Which family.
#[derive(Deserialize)]
pub struct FamilyPath {
    family: String,
}

/// What a family does, what it takes for granted, and what can be set.
pub async fn page(app: web::Data<App>, visitor: Visitor, path: web::Path<FamilyPath>) -> PageResult {
    let family = Family::of(&path.family).ok_or(ServiceError::NotFound)?;
    let form = FamilyForm::of(family).ok_or(ServiceError::NotFound)?;
    let others = Family::ALL.into_iter().filter(|other| *other != family).collect();
    html(&FamilyPage { frame: Frame::plain(&app, &visitor).await?, form, others })
}
