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

/// A column of something in a FROM, or of what comes out of a query.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct ScopeColumn {
    /// Its name.
    pub name: String,
    /// The weight of the expression that it stands for.
    pub weight: u64,
}

impl ScopeColumn {
    /// One of a table.
    pub fn stored(name: String) -> Self {
        Self { name, weight: 1 }
    }
}

/// Something with columns in a FROM.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct FromItem {
    /// What the question calls it.
    pub name: String,
    /// What the text for the database calls it: no two of a question are called the same.
    pub alias: String,
    /// Its columns.
    pub columns: Vec<ScopeColumn>,
}

/// A query that was given a name by WITH.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct NamedQuery {
    /// What the question calls it.
    pub name: String,
    /// What the text for the database calls it.
    pub alias: String,
    /// Its columns.
    pub columns: Vec<ScopeColumn>,
}

/// The names that can be used at a place: those of a query, and of those that it stands in.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Scope<'s> {
    /// Queries with names.
    pub named: &'s [NamedQuery],
    /// What the FROM holds.
    pub items: &'s [FromItem],
    /// What comes out, for GROUP BY and ORDER BY.
    pub outputs: &'s [ScopeColumn],
    /// Windows with names.
    pub windows: &'s [String],
    /// The query around this one.
    pub outer: Option<&'s Scope<'s>>,
}

impl FromItem {
    /// The column of this name.
    pub fn column(&self, name: &str) -> Option<&ScopeColumn> {
        self.columns.iter().find(|column| column.name == name)
    }
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

    /// The weight of the column, or of what comes out here, that is called so; of the heaviest if there are several.
    pub fn weight(&'s self, name: &str) -> Option<u64> {
        let columns = self.each().flat_map(|scope| scope.items).flat_map(|item| &item.columns);
        columns.chain(self.outputs).filter(|column| column.name == name).map(|column| column.weight).max()
    }

    /// The column whose name is most like one that is not there, if one is.
    pub fn most_like(&'s self, name: &str) -> Option<&'s str> {
        let columns = self.each().flat_map(|scope| scope.items).flat_map(|item| &item.columns);
        let columns = columns.map(|column| column.name.as_str());
        let apart = |column: &&str| strsim::damerau_levenshtein(&column.to_lowercase(), &name.to_lowercase());
        let nearest = columns.min_by_key(apart)?;
        (apart(&nearest) <= 2.min(name.chars().count() / 2)).then_some(nearest)
    }
}
