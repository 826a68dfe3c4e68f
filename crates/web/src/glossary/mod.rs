//! The terms that stand on the pages: what each means, by which other words people look for it, and its source.

mod terms;

pub use terms::TERMS;

/// A term of the trade.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Term {
    /// As it stands on the pages.
    pub name: &'static str,
    /// Other words for it.
    pub also: &'static [&'static str],
    /// In a sentence or two.
    pub meaning: &'static str,
    /// Where it is defined; empty where the word needs no source.
    pub source: &'static str,
    /// The stop where it is used.
    pub stop: &'static str,
}

impl Term {
    /// Where the term stands on the page of the glossary.
    pub fn anchor(&self) -> String {
        let dashed = |c: char| if c.is_alphanumeric() { c.to_ascii_lowercase() } else { '-' };
        self.name.chars().map(dashed).collect::<String>().trim_matches('-').to_owned()
    }

    /// Whether somebody who types `asked` looks for it: words of a name or their beginnings, whatever the case and the
    /// hyphens.
    pub fn is_called(&self, asked: &str) -> bool {
        let asked = format!(" {}", plain(asked));
        let holds = |name: &&str| format!(" {}", plain(name)).contains(&asked);
        asked.len() > 1 && std::iter::once(&self.name).chain(self.also).any(holds)
    }
}

/// Letters and digits in lower case, with one blank between words.
fn plain(words: &str) -> String {
    let parts = words.split(|c: char| !c.is_alphanumeric()).filter(|part| !part.is_empty());
    parts.map(str::to_lowercase).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn terms_are_in_order_once_each_and_explained() {
        let names: Vec<String> = TERMS.iter().map(|term| term.name.to_lowercase()).collect();
        assert!(names.is_sorted(), "{names:?}");
        let anchors: BTreeSet<String> = TERMS.iter().map(Term::anchor).collect();
        assert_eq!(anchors.len(), TERMS.len());
        for term in TERMS {
            assert!(term.meaning.len() > 30 && term.meaning.ends_with('.'), "{term:?}");
            assert!(
                ["Records", "Drivers", "Prepare", "Train", "Compare", "Decide", "Lists", "Live"].contains(&term.stop)
            );
        }
    }

    #[test]
    fn a_term_is_found_by_any_of_its_names_and_by_parts_of_them() {
        let auc = TERMS.iter().find(|term| term.name == "AUC (ROC)").expect("there");
        for asked in ["auc", "AUC (ROC)", "area under the curve", "c-statistic", "c statistic", "ROC"] {
            assert!(auc.is_called(asked), "{asked}");
        }
        for other in ["", "()", "precision", "churn", "uc", "curves"] {
            assert!(!auc.is_called(other), "{other}");
        }
    }
}
