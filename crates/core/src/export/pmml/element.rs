//! Elements of an XML document.

use std::fmt::Write;

use quick_xml::escape::escape;

/// An element.
#[derive(Debug, Clone)]
pub(super) struct Element {
    name: &'static str,
    attributes: Vec<(&'static str, String)>,
    inner: Vec<Element>,
    text: Option<String>,
}

impl Element {
    /// An element without anything.
    pub fn new(name: &'static str) -> Self {
        Self { name, attributes: Vec::new(), inner: Vec::new(), text: None }
    }

    /// A call of a function.
    pub fn apply(function: &str) -> Self {
        Self::new("Apply").with("function", function)
    }

    /// The value of a field.
    pub fn field(name: &str) -> Self {
        Self::new("FieldRef").with("field", name)
    }

    /// A constant.
    pub fn constant(data_type: &str, value: &str) -> Self {
        Self { text: Some(value.to_owned()), ..Self::new("Constant").with("dataType", data_type) }
    }

    /// An element that is only text.
    pub fn with_text(name: &'static str, text: &str) -> Self {
        Self { text: Some(text.to_owned()), ..Self::new(name) }
    }

    /// With an attribute.
    pub fn with(mut self, name: &'static str, value: &str) -> Self {
        self.attributes.push((name, value.to_owned()));
        self
    }

    /// With one more element inside.
    pub fn child(mut self, inner: Element) -> Self {
        self.inner.push(inner);
        self
    }

    /// With more elements inside.
    pub fn children(mut self, inner: impl IntoIterator<Item = Element>) -> Self {
        self.inner.extend(inner);
        self
    }

    /// With an element right after the first, which is the schema of a model.
    pub fn after_schema(mut self, inner: Element) -> Self {
        self.inner.insert(1.min(self.inner.len()), inner);
        self
    }

    /// The element as a document.
    pub fn document(&self) -> String {
        let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
        self.write(0, &mut out);
        out
    }

    fn write(&self, depth: usize, out: &mut String) {
        // Deep inside, where questions nest, the indent would outgrow what it indents.
        out.extend(std::iter::repeat_n(' ', depth.min(16)));
        out.push('<');
        out.push_str(self.name);
        for (name, value) in &self.attributes {
            // Writing to a text cannot fail.
            let _ = write!(out, " {name}=\"{}\"", escaped(value));
        }
        match (&self.text, self.inner.is_empty()) {
            (Some(text), _) => {
                let _ = writeln!(out, ">{}</{}>", escaped(text), self.name);
            }
            (None, true) => out.push_str("/>\n"),
            (None, false) => {
                out.push_str(">\n");
                self.inner.iter().for_each(|inner| inner.write(depth + 1, out));
                out.extend(std::iter::repeat_n(' ', depth.min(16)));
                let _ = writeln!(out, "</{}>", self.name);
            }
        }
    }
}

/// Text without what XML has no place for: control characters, which no column's name or value has.
fn escaped(text: &str) -> String {
    let allowed = |c: &char| !c.is_control() || matches!(c, '\n' | '\t');
    let text: String = text.chars().filter(allowed).collect();
    escape(text.as_str()).replace('\n', "&#10;").replace('\t', "&#9;")
}
