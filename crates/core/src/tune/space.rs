//! Where settings are sought: for every family, the settings that matter and their ranges.

use rand::RngExt;
use rand_chacha::ChaCha8Rng;

use pronoia_learn::learn::Settings;

/// How far a step from a known setting goes, as a share of the range.
const STEP: f64 = 0.2;

/// From where the values of a setting are drawn.
#[derive(Debug, Clone, Copy)]
enum Draw {
    /// Evenly between two.
    Even(f64, f64),
    /// Evenly between the logarithms of two.
    Log(f64, f64),
    /// The same, rounded to whole numbers.
    LogCount(f64, f64),
    /// One of these words.
    OneOf(&'static [&'static str]),
}

/// The settings that are sought for a family.
fn space(family: &str) -> &'static [(&'static str, Draw)] {
    match family {
        "logistic" => &[("ridge", Draw::Log(0.01, 300.0)), ("lasso", Draw::Log(0.01, 100.0))],
        "scorecard" => &[
            ("groups", Draw::LogCount(3.0, 15.0)),
            ("least-share", Draw::Log(0.01, 0.1)),
            ("shape", Draw::OneOf(&["auto", "monotone", "free"])),
            ("pairs", Draw::OneOf(&["0", "2", "4", "8"])),
            ("ridge", Draw::Log(0.01, 100.0)),
        ],
        "tree" => &[("leaves", Draw::LogCount(8.0, 256.0)), ("rows-per-leaf", Draw::LogCount(10.0, 200.0))],
        "forest" => &[("rows-per-leaf", Draw::LogCount(5.0, 150.0)), ("columns", Draw::Even(0.1, 0.9))],
        "boosted" => &[
            ("leaves", Draw::LogCount(3.0, 63.0)),
            ("learning-rate", Draw::Log(0.02, 0.2)),
            ("rows-per-leaf", Draw::LogCount(10.0, 200.0)),
            ("ridge", Draw::Log(0.1, 100.0)),
            ("rows", Draw::Even(0.5, 1.0)),
            ("columns", Draw::Even(0.4, 1.0)),
        ],
        "network" => &[
            ("units", Draw::LogCount(8.0, 96.0)),
            ("dropout", Draw::Even(0.0, 0.5)),
            ("weight-decay", Draw::Log(0.001, 0.3)),
            ("learning-rate", Draw::Log(0.0007, 0.01)),
        ],
        "bayes" => &[("bands", Draw::LogCount(4.0, 40.0)), ("smoothing", Draw::Log(0.5, 100.0))],
        "neighbours" => &[("neighbours", Draw::LogCount(20.0, 800.0))],
        "svm" => &[("cost", Draw::Log(1e-5, 1.0))],
        _ => &[],
    }
}

/// Settings of a family drawn by lot.
pub fn anywhere(family: &str, rng: &mut ChaCha8Rng) -> Option<Settings> {
    let mut settings = Settings::of_family(family)?;
    for (name, draw) in space(family) {
        let value = draw.at(rng.random());
        let _ = settings.set(name, &value);
    }
    Some(settings)
}

/// Settings near known ones: each is moved or left by lot.
pub fn near(known: &Settings, rng: &mut ChaCha8Rng) -> Settings {
    let mut settings = known.clone();
    for (name, draw) in space(known.family().word) {
        let (move_it, step): (bool, f64) = (rng.random_bool(0.6), rng.random::<f64>() * 2.0 - 1.0);
        if move_it {
            let place = (draw.place(&known.written(name)) + STEP * step).clamp(0.0, 1.0);
            let value = if matches!(draw, Draw::OneOf(_)) { draw.at(rng.random()) } else { draw.at(place) };
            let _ = settings.set(name, &value);
        }
    }
    settings
}

impl Draw {
    /// The value at a place from 0 to 1, as it would be written.
    fn at(self, place: f64) -> String {
        let log = |low: f64, high: f64| low * (high / low).powf(place);
        // Two digits are enough to tell settings apart, and can be read.
        let short = |x: f64| {
            let unit = 10f64.powf(x.abs().log10().floor() - 1.0);
            let digits = (-unit.log10().floor()).max(0.0) as usize;
            format!("{:.digits$}", (x / unit).round() * unit)
        };
        match self {
            Self::Even(low, high) => format!("{:.2}", low + place * (high - low)),
            Self::Log(low, high) => short(log(low, high)),
            Self::LogCount(low, high) => format!("{:.0}", log(low, high)),
            Self::OneOf(words) => words[((place * words.len() as f64) as usize).min(words.len() - 1)].into(),
        }
    }

    /// The place of a value; the middle for what has none.
    fn place(self, written: &str) -> f64 {
        let Ok(x) = written.parse::<f64>() else { return 0.5 };
        match self {
            Self::Even(low, high) => (x - low) / (high - low),
            Self::Log(low, high) | Self::LogCount(low, high) => (x.max(low) / low).ln() / (high / low).ln(),
            Self::OneOf(_) => 0.5,
        }
        .clamp(0.0, 1.0)
    }
}

#[cfg(test)]
mod tests {
    use rand::SeedableRng;

    use super::*;
    use pronoia_learn::learn::Family;

    #[test]
    fn whatever_is_drawn_is_in_range_and_its_place_is_found_again() {
        let mut rng = ChaCha8Rng::seed_from_u64(4);
        for family in Family::ALL {
            let proposed = Settings::of_family(family.word).expect("a family");
            for (name, draw) in space(family.word) {
                for place in [0.0, 0.3, 0.999, 1.0] {
                    let value = draw.at(place);
                    proposed.clone().set(name, &value).unwrap_or_else(|e| panic!("{} {name}: {e}", family.word));
                    if matches!(draw, Draw::Log(..) | Draw::Even(..)) {
                        assert!((draw.place(&value) - place).abs() < 0.02, "{name}: {value} at {place}");
                    }
                }
            }
            let drawn = anywhere(family.word, &mut rng).expect("a family");
            assert_ne!(drawn, proposed, "{}", family.word);
            assert_eq!(near(&drawn, &mut rng).family(), family);
        }
    }
}
