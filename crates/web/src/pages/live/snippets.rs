//! How a release is called from other programs.

use pronoia_core::Kind;
use pronoia_core::prepare::{ModelInput, ObservedValues};
use pronoia_core::table::{Storage, written_date};
use serde_json::{Map, Value, json};

use pronoia_service::release_calls::Ready;

/// A day for columns of which nothing is known, as days since 1970-01-01.
const FIRST_OF_2026: i32 = 20_454;

/// A call in one language.
pub struct Snippet {
    pub language: &'static str,
    pub code: String,
}

/// A customer with a value in every column that is needed, in the middle of what was seen.
pub fn example(ready: &Ready) -> Value {
    let mut customer = Map::new();
    for input in ready.model.inputs() {
        customer.insert(input.name.clone(), value_of(input));
    }
    for (name, kind) in &ready.of_policy {
        let value = match kind.storage() {
            Storage::Numbers => json!(100),
            Storage::Dates => json!(written_date(FIRST_OF_2026)),
            Storage::Words => json!(""),
        };
        customer.insert(name.clone(), value);
    }
    json!({ "customers": [customer] })
}

fn value_of(input: &ModelInput) -> Value {
    match &input.seen {
        ObservedValues::Between(low, high) if input.kind == Kind::Date => {
            json!(written_date(((low + high) / 2.0) as i32))
        }
        ObservedValues::Between(low, high) => {
            let middle = (low + high) / 2.0;
            if low.fract() == 0.0 && high.fract() == 0.0 {
                json!(middle.round() as i64)
            } else {
                json!((middle * 100.0).round() / 100.0)
            }
        }
        ObservedValues::Values(values) => json!(values.first()),
        ObservedValues::Nothing => Value::Null,
    }
}

/// The same call in several languages; `KEY` stands for the key.
pub fn of(address: &str, body: &Value) -> Vec<Snippet> {
    let compact = body.to_string();
    let pretty = serde_json::to_string_pretty(body).unwrap_or_else(|_| compact.clone());
    // A quote inside single quotes of a shell.
    let quoted = compact.replace('\'', "'\\''");
    let snippet = |language, code| Snippet { language, code };
    vec![
        snippet(
            "curl",
            format!(
                "curl -X POST '{address}' \\\n  -H 'Authorization: Bearer KEY' \\\n  -H 'Content-Type: application/json' \\\n  -d '{quoted}'"
            ),
        ),
        snippet(
            "Python",
            format!(
                "import json, urllib.request\n\nbody = json.loads(r'''{pretty}''')\nrequest = urllib.request.Request(\n    \"{address}\",\n    data=json.dumps(body).encode(),\n    headers={{\"Authorization\": \"Bearer KEY\", \"Content-Type\": \"application/json\"}},\n)\nwith urllib.request.urlopen(request) as answer:\n    print(json.load(answer)[\"customers\"])"
            ),
        ),
        snippet(
            "JavaScript",
            format!(
                "const answer = await fetch(\"{address}\", {{\n  method: \"POST\",\n  headers: {{ Authorization: \"Bearer KEY\", \"Content-Type\": \"application/json\" }},\n  body: JSON.stringify({compact}),\n}});\nconsole.log((await answer.json()).customers);"
            ),
        ),
        snippet(
            "Rust",
            format!(
                "// ureq with its feature json, and serde_json\nlet body: serde_json::Value = serde_json::from_str(r##\"{compact}\"##)?;\nlet mut answer = ureq::post(\"{address}\")\n    .header(\"Authorization\", \"Bearer KEY\")\n    .send_json(&body)?;\nprintln!(\"{{}}\", answer.body_mut().read_to_string()?);"
            ),
        ),
    ]
}
