//! The words that `docs/vocabulary.md` lists as never used stand nowhere in pages, messages, help or documents.

use std::fs;
use std::path::{Path, PathBuf};

/// Literals that programs or files of 0.1.0 still send.
const OF_0_1_0: [&str; 3] = ["case weight", "split marker", "left out"];

fn project() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().expect("the project")
}

fn files(folder: &Path, ending: &str) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).expect("a folder").flatten() {
        let path = entry.path();
        if path.is_dir() && !["node_modules", "target", "dist"].iter().any(|other| path.ends_with(other)) {
            found.extend(files(&path, ending));
        } else if path.extension().is_some_and(|e| e == ending) {
            found.push(path);
        }
    }
    found
}

/// The list under *Never*.
fn never() -> Vec<String> {
    let page = fs::read_to_string(project().join("docs/vocabulary.md")).expect("the vocabulary");
    let list = page.split("## Never").nth(1).expect("the list");
    list.lines().filter_map(|line| line.strip_prefix("- ")).map(str::to_lowercase).collect()
}

/// Letters and hyphens in lower case, with one blank between words and around them.
fn plain(text: &str) -> String {
    let words = text.split(|c: char| !c.is_alphanumeric() && !"-’_".contains(c)).filter(|word| !word.is_empty());
    let mut out = String::from(" ");
    for word in words {
        out += &word.to_lowercase();
        out.push(' ');
    }
    out
}

/// What stands between two marks, each once opened and closed; the rest where `inside` is false.
fn between(text: &str, open: &str, close: &str, inside: bool) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once(open) {
        let (within, beyond) = after.split_once(close).unwrap_or((after, ""));
        out += if inside { within } else { before };
        out.push(' ');
        rest = beyond;
    }
    if !inside {
        out += rest;
    }
    out
}

/// The literals of a source, without its comments and its tests.
fn literals(source: &str, quotes: &[char]) -> Vec<String> {
    let source = source.split("#[cfg(test)]\nmod tests").next().unwrap_or_default();
    let mut found = Vec::new();
    let mut rest = source.chars().peekable();
    while let Some(c) = rest.next() {
        match c {
            '/' if rest.peek() == Some(&'/') => while rest.next().is_some_and(|c| c != '\n') {},
            // A character, such as '"', and no lifetime.
            '\'' if !quotes.contains(&c) => {
                let ahead: String = rest.clone().take(2).collect();
                if ahead.ends_with('\'') {
                    rest.nth(1);
                } else if ahead.starts_with('\\') {
                    rest.nth(2);
                }
            }
            c if quotes.contains(&c) => {
                let mut literal = String::new();
                while let Some(inner) = rest.next() {
                    match inner {
                        '\\' => match rest.next() {
                            Some('\n') => {
                                while rest.peek().is_some_and(|c| c.is_whitespace()) {
                                    rest.next();
                                }
                            }
                            Some('n') => literal.push('\n'),
                            Some(other) => literal.push(other),
                            None => break,
                        },
                        inner if inner == c => break,
                        inner => literal.push(inner),
                    }
                }
                found.push(literal);
            }
            _ => {}
        }
    }
    found
}

/// Every text that somebody reads, with the file that it is of.
fn texts() -> Vec<(PathBuf, String)> {
    let project = project();
    let mut found = Vec::new();
    for path in files(&project.join("crates/web/templates"), "html") {
        let source = between(&fs::read_to_string(&path).expect("a template"), "{#", "#}", false);
        let logic = between(&between(&source, "{%", "%}", false), "{{", "}}", false);
        found.push((path.clone(), between(&logic, "<", ">", false)));
        for label in ["title=\"", "aria-label=\"", "placeholder=\"", "alt=\""] {
            found.push((path.clone(), between(&logic, label, "\"", true)));
        }
        let computed = between(&source, "{{", "}}", true) + &between(&source, "{%", "%}", true);
        found.extend(literals(&computed, &['"']).into_iter().map(|text| (path.clone(), text)));
    }
    for path in files(&project.join("crates"), "rs") {
        let name = path.to_string_lossy().replace('\\', "/");
        if !name.contains("/src/") || name.ends_with("glossary/terms.rs") || name.contains("/computation/") {
            continue;
        }
        let source = fs::read_to_string(&path).expect("a source");
        found.extend(literals(&source, &['"']).into_iter().map(|text| (path.clone(), text)));
        if name.contains("/cli/src/") {
            // Comments of arguments are the help of the command line.
            let help = source.lines().filter_map(|line| line.trim().strip_prefix("///"));
            found.extend(help.map(|text| (path.clone(), text.to_owned())));
        }
    }
    for path in files(&project.join("front/src"), "js") {
        let source = fs::read_to_string(&path).expect("a script");
        found.extend(literals(&source, &['"', '`']).into_iter().map(|text| (path.clone(), text)));
    }
    let mut documents = files(&project.join("docs"), "md");
    documents.push(project.join("README.md"));
    for path in documents.into_iter().filter(|path| !path.ends_with("vocabulary.md")) {
        let text = fs::read_to_string(&path).expect("a document");
        let prose = between(&between(&text, "```", "```", false), "`", "`", false);
        found.push((path, prose));
    }
    found
}

#[test]
fn no_page_message_or_document_uses_a_word_that_is_never_used() {
    let never: Vec<String> = never().iter().map(|word| plain(word)).collect();
    assert!(never.len() > 50, "{}", never.len());
    let texts = texts();
    assert!(texts.len() > 4_000, "{}", texts.len());
    let mut found = Vec::new();
    for (path, text) in texts {
        // Words of one piece are names in the code, such as those of roles, classes and keys.
        if !text.trim().contains(char::is_whitespace) || OF_0_1_0.contains(&text.as_str()) {
            continue;
        }
        let words = plain(&text);
        if let Some(word) = never.iter().find(|word| words.contains(word.as_str())) {
            let at = words.find(word.as_str()).unwrap_or_default();
            let near: String = words[..].chars().skip(at.saturating_sub(40)).take(110).collect();
            found.push(format!("{}: “{}” in …{near}…", path.display(), word.trim()));
        }
    }
    assert!(found.is_empty(), "{} places:\n{}", found.len(), found.join("\n"));
}

#[test]
fn literals_are_read_without_comments_characters_and_escapes() {
    let source =
        "let a = \"one\"; // \"two\"\nlet b = '\"'; let c = \"th\\\n   ree \\\"x\\\"\"; fn f<'a>(x: &'a str) {}";
    assert_eq!(literals(source, &['"']), ["one", "three \"x\""]);
    assert_eq!(plain("Take it back, by-lot!"), " take it back by-lot ");
    assert_eq!(between("a `b c` d", "`", "`", false), "a   d");
}
