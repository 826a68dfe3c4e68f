//! A document of sections, on a page or as Markdown (CommonMark with tables).

/// A document.
pub struct StatementDocument {
    pub title: String,
    /// When it was written, and from what.
    pub written: String,
    /// What would make it misleading.
    pub warnings: Vec<String>,
    pub sections: Vec<Section>,
}

/// A section.
pub struct Section {
    pub heading: &'static str,
    pub blocks: Vec<SectionPart>,
}

/// A part of a section.
pub enum SectionPart {
    /// A paragraph.
    Says(String),
    /// A paragraph to be careful of.
    Warns(String),
    /// Lines of a list.
    Lists(Vec<String>),
    /// A table, in which figures begin at some column.
    Table { head: Vec<&'static str>, rows: Vec<Vec<String>>, figures: usize },
}

impl Section {
    /// A section without anything yet.
    pub fn new(heading: &'static str) -> Self {
        Self { heading, blocks: Vec::new() }
    }

    /// With a paragraph, unless there is nothing to say.
    pub fn says(mut self, text: impl Into<String>) -> Self {
        let text = text.into();
        if !text.trim().is_empty() {
            self.blocks.push(SectionPart::Says(text));
        }
        self
    }

    /// With a paragraph to be careful of.
    pub fn warns(mut self, text: impl Into<String>) -> Self {
        self.blocks.push(SectionPart::Warns(text.into()));
        self
    }

    /// With a list, unless it is empty.
    pub fn lists(mut self, lines: Vec<String>) -> Self {
        if !lines.is_empty() {
            self.blocks.push(SectionPart::Lists(lines));
        }
        self
    }

    /// With a table, unless it is empty.
    pub fn table(mut self, head: Vec<&'static str>, rows: Vec<Vec<String>>, figures: usize) -> Self {
        if !rows.is_empty() {
            self.blocks.push(SectionPart::Table { head, rows, figures });
        }
        self
    }
}

impl StatementDocument {
    /// The document as Markdown.
    pub fn markdown(&self) -> String {
        let mut out = format!("# {}\n\n{}\n", escaped(&self.title), escaped(&self.written));
        for warning in &self.warnings {
            out.push_str(&format!("\n> **Mind:** {}\n", escaped(warning)));
        }
        for section in &self.sections {
            out.push_str(&format!("\n## {}\n", section.heading));
            for block in &section.blocks {
                out.push('\n');
                match block {
                    SectionPart::Says(text) => out.push_str(&format!("{}\n", escaped(text))),
                    SectionPart::Warns(text) => out.push_str(&format!("> **Mind:** {}\n", escaped(text))),
                    SectionPart::Lists(lines) => {
                        lines.iter().for_each(|line| out.push_str(&format!("- {}\n", escaped(line))))
                    }
                    SectionPart::Table { head, rows, figures } => {
                        let line = |cells: &[String]| format!("| {} |\n", cells.join(" | "));
                        out.push_str(&line(&head.iter().map(|cell| escaped(cell)).collect::<Vec<_>>()));
                        let rule = |at: usize| if at < *figures { "---".to_owned() } else { "---:".to_owned() };
                        out.push_str(&line(&(0..head.len()).map(rule).collect::<Vec<_>>()));
                        for row in rows {
                            out.push_str(&line(&row.iter().map(|cell| escaped(cell)).collect::<Vec<_>>()));
                        }
                    }
                }
            }
        }
        out
    }
}

/// Text in which nothing means anything but itself, on one line.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in text.chars() {
        match letter {
            '\n' | '\r' | '\t' => out.push(' '),
            '\\' | '`' | '*' | '_' | '{' | '}' | '[' | ']' | '<' | '>' | '#' | '|' | '~' => {
                out.push('\\');
                out.push(letter);
            }
            letter => out.push(letter),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn markdown_takes_no_meaning_from_names_of_columns_or_values() {
        let table = vec![vec!["plan_tier | *new*".to_owned(), "1 200".into()]];
        let section = Section::new("Data")
            .says("<b>fee_rise</b>\n# not a heading")
            .says("  ")
            .lists(vec!["`a`".into()])
            .table(vec!["column", "rows"], table, 1);
        let document = StatementDocument {
            title: "A_b".into(),
            written: "Today.".into(),
            warnings: vec!["Old".into()],
            sections: vec![section],
        };
        let text = document.markdown();
        assert!(text.starts_with("# A\\_b\n\nToday.\n\n> **Mind:** Old\n\n## Data\n\n"), "{text}");
        assert!(text.contains("\\<b\\>fee\\_rise\\</b\\> \\# not a heading\n"), "{text}");
        assert!(
            text.contains("- \\`a\\`\n\n| column | rows |\n| --- | ---: |\n| plan\\_tier \\| \\*new\\* | 1 200 |\n"),
            "{text}"
        );
    }
}
