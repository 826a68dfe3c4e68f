//! The dental offer as JSON lines, the habit of a campaign system.

use pronoia_core::table::written_date;
use serde_json::{Map, Value, json};

use crate::Contact;

/// One JSON object a line; what is unknown is absent, and the pet is an object of its own.
pub fn dental_offer_jsonl(contacts: &[Contact]) -> Vec<u8> {
    lines(contacts, true)
}

/// The same of customers who might be contacted: nobody knows yet what they will answer.
pub fn dental_customers_jsonl(customers: &[Contact]) -> Vec<u8> {
    lines(customers, false)
}

fn lines(contacts: &[Contact], answered: bool) -> Vec<u8> {
    let mut out = String::new();
    for c in contacts {
        let mut object = Map::new();
        object.insert("customer".into(), json!(c.customer.to_string()));
        object.insert("channel".into(), json!(c.channel));
        object.insert("contacted_on".into(), json!(written_date(c.contacted)));
        object.insert("pet".into(), json!({ "species": c.species, "age": c.pet_age, "coat": c.coat }));
        if let Some(months) = c.last_dental {
            object.insert("months_since_dental".into(), json!(months));
        }
        object.insert("price".into(), json!(c.price));
        object.insert("letters_opened".into(), json!(c.opens));
        object.insert("visits_last_year".into(), json!(c.visits));
        if answered {
            object.insert("answered".into(), json!(c.answered));
        }
        out += &Value::Object(object).to_string();
        out.push('\n');
    }
    out.into_bytes()
}
