//! Which names mean what at a place of a question.

/// A table that a question may read, as it is found by the name that is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Relation {
    /// Its schema.
    pub schema: String,
    /// Its name.
    pub name: String,
    /// Its columns, in their order.
    pub columns: Vec<String>,
    /// Whether the database calls the columns otherwise, so that they go by their places.
    pub is_renamed: bool,
}

/// Something with columns in a FROM.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct FromItem {
    /// What the question calls it.
    pub name: String,
    /// What the text for the database calls it: no two of a question are called the same.
    pub alias: String,
    /// Its columns.
    pub columns: Vec<String>,
}

/// A query that was given a name by WITH.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct NamedQuery {
    /// What the question calls it.
    pub name: String,
    /// What the text for the database calls it.
    pub alias: String,
    /// Its columns.
    pub columns: Vec<String>,
}

/// The names that can be used at a place: those of a query, and of those that it stands in.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Scope<'s> {
    /// Queries with names.
    pub named: &'s [NamedQuery],
    /// What the FROM holds.
    pub items: &'s [FromItem],
    /// Names of what comes out, for GROUP BY and ORDER BY.
    pub outputs: &'s [String],
    /// Windows with names.
    pub windows: &'s [String],
    /// The query around this one.
    pub outer: Option<&'s Scope<'s>>,
}

impl<'s> Scope<'s> {
    /// A query inside this one.
    pub fn inner(&'s self) -> Self {
        Self { outer: Some(self), ..Self::default() }
    }

    fn each(&'s self) -> impl Iterator<Item = &'s Scope<'s>> {
        std::iter::successors(Some(self), |scope| scope.outer)
    }

    /// The query of this name that is nearest.
    pub fn named(&'s self, name: &str) -> Option<&'s NamedQuery> {
        self.each().find_map(|scope| scope.named.iter().rev().find(|named| named.name == name))
    }

    /// The thing of this name in the FROM that is nearest.
    pub fn item(&'s self, name: &str) -> Option<&'s FromItem> {
        self.each().find_map(|scope| scope.items.iter().find(|item| item.name == name))
    }

    /// Whether a column, or what comes out here, is called so.
    pub fn has(&'s self, name: &str) -> bool {
        let is_column = |scope: &Scope<'_>| scope.items.iter().any(|item| item.columns.iter().any(|c| c == name));
        self.outputs.iter().any(|output| output == name) || self.each().any(is_column)
    }

    /// The column whose name is most like one that is not there, if one is.
    pub fn most_like(&'s self, name: &str) -> Option<&'s str> {
        let columns = self.each().flat_map(|scope| scope.items).flat_map(|item| &item.columns);
        let apart = |column: &&String| strsim::damerau_levenshtein(&column.to_lowercase(), &name.to_lowercase());
        let nearest = columns.min_by_key(apart)?;
        (apart(&nearest) <= 2.min(name.chars().count() / 2)).then_some(nearest.as_str())
    }
}
