//! A model as one SELECT.
//!
//! Definitions that need only what stands before them share a layer. Every layer is computed once per
//! customer: databases that would otherwise put a definition in wherever it is used are kept from it.

use super::definitions::{Definition, Is};
use super::exported_model::ExportedModel;
use super::formula::ModelFormula;
use super::refusal::Refusal;
use pronoia_data::expression::{ExpressionNode, SqlDialect, Type, write as expression};

/// Leaves of all trees that are written at most.
const MOST_LEAVES: usize = 60_000;

/// Trees that are added up in one column.
const TOGETHER: usize = 25;

/// The table that is read; every row of it is a customer.
const TABLE: &str = "customers";

/// The SELECT in a dialect.
pub(super) fn write(formula: &ModelFormula, dialect: SqlDialect) -> Result<ExportedModel, Refusal> {
    let leaves = formula.leaves();
    if leaves > MOST_LEAVES {
        return Err(Refusal::TooLarge { parts: leaves, most: MOST_LEAVES, form: "SQL" });
    }
    let mut notes = vec![format!("It reads the table “{TABLE}”; put the name of yours in its place.")];
    if dialect == SqlDialect::Standard && formula.definitions.iter().any(|d| matches!(d.is, Is::DaysSince1970(_))) {
        notes.push(
            "Days are counted by year, month and day, which every database that keeps to the standard has.".into(),
        );
    }
    let layers = Layers::of(formula, dialect);
    Ok(ExportedModel { bytes: layers.select(formula).into_bytes(), notes })
}

/// A column of a layer: its name, and what it is.
type LayerColumn = (String, String);

struct Layers {
    dialect: SqlDialect,
    /// The columns of each layer.
    layers: Vec<Vec<LayerColumn>>,
    /// The layer in which each place is made.
    of_place: Vec<usize>,
}

impl Layers {
    fn of(formula: &ModelFormula, dialect: SqlDialect) -> Self {
        let inputs = formula.inputs.len();
        let mut layers = Self { dialect, layers: vec![Vec::new()], of_place: vec![0; inputs] };
        for (at, (name, kind)) in formula.inputs.iter().enumerate() {
            let column = layers.read(name, Type::of(*kind));
            layers.put(0, (input_name(at), column));
        }
        for definition in &formula.definitions {
            let (latest, parts) = layers.written(formula, definition);
            let layer = match parts.len() {
                1 => latest + 1,
                // Parts are added up in the layer after theirs.
                _ => {
                    for (at, part) in parts.iter().enumerate() {
                        layers.put(latest + 1, (format!("{}_{}", definition.name, at + 1), part.clone()));
                    }
                    latest + 2
                }
            };
            let part = |at: usize| dialect.name(&format!("{}_{}", definition.name, at + 1));
            let sum: Vec<String> = (0..parts.len()).map(part).collect();
            let what = if parts.len() == 1 { parts[0].clone() } else { sum.join(" + ") };
            layers.put(layer, (definition.name.clone(), what));
            layers.of_place.push(layer);
        }
        layers
    }

    fn put(&mut self, layer: usize, made: LayerColumn) {
        if self.layers.len() <= layer {
            self.layers.resize(layer + 1, Vec::new());
        }
        self.layers[layer].push(made);
    }

    /// A column of the table of customers, in double precision where it is a number.
    fn read(&self, name: &str, kind: Type) -> String {
        let (dialect, column) = (self.dialect, format!("customer.{}", self.dialect.name(name)));
        match (kind, dialect) {
            (Type::Number, SqlDialect::Standard) => format!("CAST({column} AS double precision)"),
            // What other programs write for a missing number.
            (Type::Number, _) => {
                let double = dialect.type_name(Type::Number);
                format!("NULLIF(CAST({column} AS {double}), CAST('NaN' AS {double}))")
            }
            (Type::Day, _) => format!("CAST({column} AS date)"),
            _ => format!("CAST({column} AS {})", dialect.type_name(Type::Text)),
        }
    }

    /// The parts that a definition is the sum of, mostly one, and the latest layer that they need.
    fn written(&self, formula: &ModelFormula, definition: &Definition) -> (usize, Vec<String>) {
        let latest = std::cell::Cell::new(0);
        let inputs = formula.inputs.len();
        let name = |place: usize| {
            let layer = self.of_place[place];
            latest.set(latest.get().max(layer));
            let own = if place < inputs { input_name(place) } else { formula.name_at(place).to_owned() };
            self.dialect.name(&own)
        };
        let of = |node: &ExpressionNode| expression(node, &name, self.dialect);
        let constant = |x: f64| of(&ExpressionNode::Number(x));
        let double = self.dialect.type_name(Type::Number);
        let parts = match &definition.is {
            Is::DaysSince1970(place) => vec![self.days(&name(*place))],
            Is::Value(node) if definition.kind == Type::Number => vec![format!("CAST({} AS {double})", of(node))],
            Is::Value(node) => vec![format!("CAST({} AS {})", of(node), self.dialect.type_name(Type::Text))],
            Is::Sum(sum) => {
                let mut added = constant(sum.constant);
                for (place, weight) in &sum.terms {
                    added = format!("{added} + {} * {}", constant(*weight), name(*place));
                }
                vec![match sum.rectified {
                    false => format!("CAST({added} AS {double})"),
                    true => format!("CAST(GREATEST({added}, {}) AS {double})", constant(0.0)),
                }]
            }
            Is::Trees(trees) => {
                let nested = |tree| format!("CAST({} AS {double})", of(&trees.nested(tree, 0)));
                let mut parts: Vec<String> = trees
                    .trees
                    .chunks(TOGETHER)
                    .map(|some| some.iter().map(nested).collect::<Vec<_>>().join("\n      + "))
                    .collect();
                match parts.first_mut() {
                    Some(first) => *first = format!("{} + {first}", constant(trees.start)),
                    None => parts.push(constant(trees.start)),
                }
                parts
            }
        };
        (latest.get(), parts)
    }

    /// Days since 1970-01-01.
    fn days(&self, day: &str) -> String {
        let double = self.dialect.type_name(Type::Number);
        match self.dialect {
            SqlDialect::PostgreSql | SqlDialect::DuckDb => format!("CAST({day} - DATE '1970-01-01' AS {double})"),
            SqlDialect::Spark => format!("CAST(DATEDIFF({day}, DATE '1970-01-01') AS {double})"),
            SqlDialect::Standard => {
                // Fliegel & Van Flandern 1968 count so; months from March on, and FLOOR in place of division of
                // whole numbers.
                let [year, month, date] = ["YEAR", "MONTH", "DAY"].map(|part| format!("EXTRACT({part} FROM {day})"));
                let early = format!("(CASE WHEN {month} <= 2 THEN 1 ELSE 0 END)");
                let year = format!("({year} - {early})");
                let month = format!("({month} + 12 * {early} - 3)");
                format!(
                    "CAST({date} + FLOOR((153 * {month} + 2) / 5.0E0) + 365 * {year} + FLOOR({year} / 4.0E0) - FLOOR({year} / 100.0E0) + FLOOR({year} / 400.0E0) - 719469 AS {double})"
                )
            }
        }
    }

    fn select(&self, formula: &ModelFormula) -> String {
        let dialect = self.dialect;
        let comment: String = formula.about().lines().map(|line| format!("-- {line}\n")).collect();
        let probability = dialect.name(formula.name_at(formula.probability));
        let mut layers = self.layers.iter();
        let first = layers.next().map_or(&[][..], Vec::as_slice);
        let from = match dialect {
            // The customer stands outside, so that of all layers only the probability comes out.
            SqlDialect::Standard => {
                let values: Vec<String> = first.iter().map(|(_, what)| format!("    {what}")).collect();
                let names: Vec<String> = first.iter().map(|(name, _)| dialect.name(name)).collect();
                format!("(\n  VALUES (\n{}\n  )\n) AS layer_0 ({})", values.join(",\n"), names.join(", "))
            }
            _ => {
                let customer = match dialect {
                    SqlDialect::PostgreSql => "customer AS pronoia_customer",
                    SqlDialect::Spark => "STRUCT(customer.*) AS pronoia_customer",
                    _ => "customer.*",
                };
                let of = self.listed(first);
                format!("(\n  SELECT {customer}{of}\n  FROM {TABLE} AS customer\n{}) AS layer_0", self.fence())
            }
        };
        let nested = layers.enumerate().fold(from, |from, (at, made)| {
            let of = self.listed(made);
            format!("(\n  SELECT layer_{at}.*{of}\n  FROM {from}\n{}) AS layer_{}", self.fence(), at + 1)
        });
        let select = match dialect {
            SqlDialect::Standard => format!(
                "SELECT customer.*, (\n  SELECT {probability}\n  FROM {nested}\n) AS pronoia_probability\nFROM {TABLE} AS customer"
            ),
            SqlDialect::PostgreSql => {
                format!("SELECT (pronoia_customer).*, {probability} AS pronoia_probability\nFROM {nested}")
            }
            SqlDialect::Spark => {
                format!("SELECT pronoia_customer.*, {probability} AS pronoia_probability\nFROM {nested}")
            }
            SqlDialect::DuckDb => {
                let ours: Vec<String> = self.layers.iter().flatten().map(|(name, _)| dialect.name(name)).collect();
                let ours = ours.join(", ");
                format!("SELECT * EXCLUDE ({ours}), {probability} AS pronoia_probability\nFROM {nested}")
            }
        };
        format!("{comment}{select};\n")
    }

    /// The columns of a layer after those before it.
    fn listed(&self, made: &[LayerColumn]) -> String {
        made.iter().map(|(name, what)| format!(",\n    {what} AS {}", self.dialect.name(name))).collect()
    }

    /// What keeps a database from putting a layer in wherever it is used.
    fn fence(&self) -> &'static str {
        match self.dialect {
            SqlDialect::Standard => "  OFFSET 0 ROWS\n",
            SqlDialect::PostgreSql => "  OFFSET 0\n",
            SqlDialect::DuckDb | SqlDialect::Spark => "",
        }
    }
}

/// What the column of an input is called; it may have the name of another column otherwise.
fn input_name(at: usize) -> String {
    format!("pronoia_input_{}", at + 1)
}

impl ModelFormula {
    /// What the form is of, in a few lines of plain text.
    pub(super) fn about(&self) -> String {
        let from = &self.provenance;
        // Line ends in a name would leave the comment.
        let plain = |text: &str| text.replace(char::is_control, " ");
        format!(
            "{}: probability of {} = {}.\nFitted by Pronoia {} to {} customers, {} of them with the event.\nRecords {}.",
            from.name,
            plain(&self.outcome[0]),
            plain(&self.outcome[1]),
            from.version,
            from.rows,
            from.events,
            &from.fingerprint
        )
    }
}
