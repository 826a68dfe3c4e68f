//! Members as delimited text.

use std::fmt::Write;

use pronoia_core::table::written_date;

use crate::Member;

/// How a file writes its fields.
struct Habit {
    delimiter: char,
    decimal_comma: bool,
    day_first: bool,
}

const CONTINENTAL: Habit = Habit { delimiter: ';', decimal_comma: true, day_first: true };
const PLAIN: Habit = Habit { delimiter: ',', decimal_comma: false, day_first: false };

/// Members with their outcome at renewal, as the membership system writes
/// them: semicolons, decimal commas, days first, Windows-1252.
pub fn outcome_csv(members: &[Member]) -> Vec<u8> {
    let text = rows(members, &CONTINENTAL, true, true);
    encoding_rs::WINDOWS_1252.encode(&text).0.into_owned()
}

/// Members without their outcome, in the same habit.
pub fn members_csv(members: &[Member]) -> Vec<u8> {
    let text = rows(members, &CONTINENTAL, false, true);
    encoding_rs::WINDOWS_1252.encode(&text).0.into_owned()
}

/// Members who come up for renewal, to be scored: commas, decimal points,
/// UTF-8, and nothing that is known only afterwards.
pub fn renewals_csv(members: &[Member]) -> Vec<u8> {
    rows(members, &PLAIN, false, false).into_bytes()
}

/// Members who come up for renewal as a branch sent them, `known` from the records among them: the
/// months since the last visit under another name, no number of pets, a plan that there never was
/// for one in 40, an impossible fee for one in 150, and fees that rose for everybody.
pub fn renewals_as_sent_csv(fresh: &[Member], known: &[Member]) -> Vec<u8> {
    let all: Vec<Member> = known.iter().chain(fresh).cloned().collect();
    let text = rows(&all, &PLAIN, false, false);
    let mut lines = text.lines().map(|line| line.split(',').map(str::to_owned).collect::<Vec<_>>());
    let mut names = lines.next().unwrap_or_default();
    let place = |name: &str| names.iter().position(|n| n == name).unwrap_or_default();
    let [visit, pets, tier, fee, rise] =
        ["months_since_visit", "pets", "plan_tier", "annual_fee", "fee_rise_pct"].map(place);
    names[visit] = "Months since last visit".into();
    names.remove(pets);
    let mut out = names.join(",") + "\n";
    for (i, mut fields) in lines.enumerate() {
        // Those from the records are left as they are, so that they can be found again.
        if i >= known.len() {
            if i % 40 == 11 {
                fields[tier] = "Premium".into();
            }
            if i % 150 == 31 {
                fields[fee] = "9900.00".into();
            }
        }
        if let Some(low) = fields[rise].parse::<f64>().ok().filter(|rise| *rise < 4.0) {
            fields[rise] = format!("{:.1}", low + 4.0);
        }
        fields.remove(pets);
        out += &fields.join(",");
        out.push('\n');
    }
    out.into_bytes()
}

/// Members with their outcome: commas, decimal points.
pub(super) fn plain_rows(members: &[Member]) -> String {
    rows(members, &PLAIN, true, true)
}

/// What happened at renewal, in a file of its own: one member in 400 is
/// missing, one in 600 unknown, one in 500 is there twice.
pub fn cancellations_csv(members: &[Member]) -> Vec<u8> {
    let mut out = String::from("member_id,cancelled\n");
    for (i, m) in members.iter().enumerate() {
        if i % 400 == 399 {
            continue;
        }
        let word = if i % 600 == 599 { "unknown" } else { yes_no(m.cancelled) };
        let times = if i % 500 == 499 { 2 } else { 1 };
        for _ in 0..times {
            let _ = writeln!(out, "{},{word}", m.id);
        }
    }
    out.into_bytes()
}

/// A file that was damaged on its way: short rows, a long row, words among the
/// numbers, a NUL byte, and a quote that never closes.
pub fn damaged_csv(members: &[Member]) -> Vec<u8> {
    let text = rows(members, &PLAIN, true, true);
    let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
    let cut = |line: &str| line.rsplit_once(',').map_or(String::new(), |(head, _)| head.to_owned());
    for at in [118, 904] {
        if at < lines.len() {
            lines[at] = cut(&lines[at]);
        }
    }
    if let Some(line) = lines.get_mut(333) {
        line.push_str(",stray");
    }
    if let Some(line) = lines.get_mut(57) {
        *line = line.replacen(",Basic,", ",Ba\0sic,", 1).replacen(",Plus,", ",Pl\0us,", 1).replacen(
            ",Complete,",
            ",Com\0plete,",
            1,
        );
    }
    if let Some(line) = lines.get_mut(700) {
        // The tenure is the fifth field.
        let mut fields: Vec<&str> = line.split(',').collect();
        fields[4] = "about two years";
        *line = fields.join(",");
    }
    let last = lines.len().saturating_sub(40);
    if let Some(line) = lines.get_mut(last) {
        *line = line.replacen(',', ",\"", 1);
    }
    (lines.join("\n") + "\n").into_bytes()
}

fn yes_no(b: bool) -> &'static str {
    if b { "yes" } else { "no" }
}

fn rows(members: &[Member], habit: &Habit, with_outcome: bool, with_afterwards: bool) -> String {
    let mut names = vec![
        "member_id",
        "legacy_ref",
        "species",
        "plan_tier",
        "tenure_months",
        "months_since_visit",
        "declined_claims",
        "fee_rise_pct",
        "annual_fee",
        "pets",
        "payment_method",
        "district",
        "clinic",
        "newsletter",
        "joined_on",
        "renewal_on",
        "household_income",
        "owner_age_band",
        "retired_discount",
        "weekend_visits",
        "moved_home",
        "newsletter_opens",
        "call_minutes",
        "currency",
        "note_code",
        "sample_weight",
        "days_since_last_login",
    ];
    if with_afterwards {
        names.push("exit_survey_sent");
    }
    if with_outcome {
        names.push("cancelled");
    }
    let separator = habit.delimiter.to_string();
    let mut out = names.join(&separator) + "\n";
    let number = |x: f64, decimals: usize| {
        let text = format!("{x:.decimals$}");
        if habit.decimal_comma { text.replace('.', ",") } else { text }
    };
    let day = |days: i32| {
        let iso = written_date(days);
        match (habit.day_first, iso.split('-').collect::<Vec<_>>().as_slice()) {
            (true, [y, m, d]) => format!("{d}.{m}.{y}"),
            _ => iso,
        }
    };
    for (i, m) in members.iter().enumerate() {
        let mut fields = vec![
            m.id.to_string(),
            format!("L{}", m.legacy_ref),
            m.species.into(),
            m.tier.into(),
            m.tenure.to_string(),
            m.months_since_visit.map_or("NA".into(), |v| v.to_string()),
            m.declined_claims.to_string(),
            m.fee_rise.map_or(String::new(), |v| number(v, 1)),
            number(m.annual_fee, 2),
            m.pets.to_string(),
            m.payment.into(),
            m.district.to_string(),
            m.clinic.into(),
            if m.newsletter { "Y" } else { "N" }.into(),
            day(m.joined),
            day(m.renewal),
            m.income.map_or(String::new(), |v| number(v, 0)),
            m.age_band.into(),
            yes_no(m.retired_discount).into(),
            yes_no(m.weekend_visits).into(),
            yes_no(m.moved_home).into(),
            m.newsletter_opens.to_string(),
            number(m.call_minutes, 1),
            "EUR".into(),
            if i % 3_000 == 7 { "K2" } else { "K1" }.into(),
            number(m.weight, 2),
            m.days_since_login.to_string(),
        ];
        if with_afterwards {
            fields.push(yes_no(m.exit_survey).into());
        }
        if with_outcome {
            fields.push(yes_no(m.cancelled).into());
        }
        out += &fields.join(&separator);
        out.push('\n');
    }
    out
}
