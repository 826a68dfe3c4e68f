//! Addresses with braces, as they are of a study that has one of everything.

use pronoia_web::Route;

/// What stands where an address has braces, of a study that has one of everything.
pub fn filled(door: &Route) -> String {
    let mut path = String::new();
    for (at, piece) in door.path.split(['{', '}']).enumerate() {
        path += match (at % 2, piece) {
            (0, piece) => piece,
            (_, "path:.*") => "pronoia.css",
            (_, "family") => "logistic",
            (_, "form") if door.path.contains("/forms/") => "sql",
            (_, "form") => "csv",
            (_, "name") => "members",
            (_, "link") => "join_nobody",
            (_, "other" | "key") => "2",
            (_, _) => "1",
        };
    }
    path
}
