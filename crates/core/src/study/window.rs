//! The outcome window: for how long it counts what happens, and who was watched for all of it.

use serde::{Deserialize, Serialize};

use super::OutcomeError;
use pronoia_data::profile::ColumnProfile;
use pronoia_data::table::written_date;
use pronoia_data::{Column, Kind};

/// The longest window, in days.
const LONGEST: u32 = 3_660;

/// How long customers are watched from a day of their own on, and to when anything is known. Whoever was
/// not watched to the end of their window may still have the event: their outcome is not known yet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OutcomeWindow {
    /// The column with the day from which a customer is watched.
    pub from: String,
    /// For how many days.
    pub days: u32,
    /// The last day of which anything is known, in days since 1970-01-01.
    pub until: i32,
}

impl OutcomeWindow {
    /// Whose outcome counts, in words that follow those of the event.
    pub fn words(&self) -> String {
        format!("where {} days from {} had passed by {}", self.days, self.from, written_date(self.until))
    }

    /// Checks that it can be, on a column with these figures.
    ///
    /// # Errors
    /// [`OutcomeError`] in words for the analyst.
    pub fn check(&self, profile: Option<&ColumnProfile>) -> Result<(), OutcomeError> {
        let profile = profile.ok_or_else(|| OutcomeError::NoColumn(self.from.clone()))?;
        let (Kind::Date, Some(dates)) = (profile.kind, &profile.numbers) else {
            return Err(OutcomeError::Field(format!("“{}” holds no dates; a window runs from a date.", self.from)));
        };
        if !(1..=LONGEST).contains(&self.days) {
            return Err(OutcomeError::Field(format!("A window lasts 1 to {LONGEST} days.")));
        }
        if dates.min + f64::from(self.days) > f64::from(self.until) {
            return Err(OutcomeError::Field(format!(
                "Nobody was observed for {} days: the earliest day in “{}” is {}, and nothing is known after {}.",
                self.days,
                self.from,
                written_date(dates.min as i32),
                written_date(self.until)
            )));
        }
        Ok(())
    }

    /// Whether a customer was watched to the end; not, where it is not known from when.
    pub(super) fn has_ended(&self, from: &Column, row: usize) -> bool {
        from.number(row).is_some_and(|day| day + f64::from(self.days) <= f64::from(self.until))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::study::Outcome;
    use pronoia_data::profile::TableProfile;
    use pronoia_data::progress::Unwatched;
    use pronoia_data::table::Table;
    use pronoia_files::intake::read_table;

    /// Joined on the first of January, February, March and April 2024, and nobody knows when.
    fn table() -> Table {
        let csv = "joined,left,fee\n2024-01-01,yes,3\n2024-02-01,no,4\n2024-03-01,yes,5\n2024-04-01,no,6\n,no,7\n";
        read_table(csv.as_bytes(), &Unwatched).expect("a table").0
    }

    fn days(day: &str) -> i32 {
        chrono::NaiveDate::to_epoch_days(&day.parse().expect("a day"))
    }

    #[test]
    fn whoever_was_not_watched_to_the_end_has_no_outcome_yet() {
        let window = |until: &str| OutcomeWindow { from: "joined".into(), days: 60, until: days(until) };
        let read = |until: &str| {
            let outcome = Outcome { window: Some(window(until)), ..Outcome::is("left", "yes") };
            outcome.read(&table()).expect("read")
        };
        // 60 days from 2024-02-01 end on 2024-04-01; those of March end on 2024-04-30.
        assert_eq!(read("2024-04-01"), [Some(true), Some(false), None, None, None]);
        assert_eq!(read("2024-03-31"), [Some(true), None, None, None, None]);
        assert_eq!(read("2024-04-30"), [Some(true), Some(false), Some(true), None, None]);
        assert_eq!(window("2024-04-01").words(), "where 60 days from joined had passed by 2024-04-01");
    }

    #[test]
    fn a_window_that_cannot_be_is_refused_in_words() {
        let profile = TableProfile::of(&table());
        let check = |from: &str, length: u32, until: &str| {
            let window = OutcomeWindow { from: from.into(), days: length, until: days(until) };
            window.check(profile.column(from)).map_err(|e| e.to_string())
        };
        assert_eq!(check("joined", 60, "2024-06-01"), Ok(()));
        assert!(check("fee", 60, "2024-06-01").expect_err("no dates").contains("holds no dates"));
        assert!(check("gone", 60, "2024-06-01").expect_err("no column").contains("no column called “gone”"));
        assert!(check("joined", 0, "2024-06-01").expect_err("no days").contains("1 to 3660 days"));
        let none = check("joined", 60, "2024-02-28").expect_err("too early");
        assert!(none.contains("earliest day in “joined” is 2024-01-01") && none.contains("after 2024-02-28"), "{none}");
    }

    #[test]
    fn an_outcome_without_a_window_is_stored_as_it_always_was() {
        let plain = serde_json::to_string(&Outcome::is("left", "yes")).expect("text");
        assert_eq!(plain, r#"{"column":"left","event":"yes"}"#);
        let window = OutcomeWindow { from: "joined".into(), days: 60, until: 19_800 };
        let outcome = Outcome { window: Some(window), ..Outcome::is("left", "yes") };
        let stored = serde_json::to_string(&outcome).expect("text");
        assert_eq!(serde_json::from_str::<Outcome>(&stored).expect("read"), outcome);
    }
}
