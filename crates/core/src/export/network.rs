//! A neural network as sums of sums.

use super::definitions::{Definitions, Is, WeightedSum};
use super::features::{Coded, Features};
use pronoia_data::expression::Type;
use pronoia_learn::learn::network::{Comes, Net, Network};

/// Place of the mean of what several networks say.
pub(super) fn averaged(made: &mut Definitions, features: &Features, network: &Network) -> usize {
    let share = 1.0 / network.nets.len() as f64;
    let told: Vec<(usize, f64)> = network.nets.iter().map(|net| (told(made, features, net), share)).collect();
    made.define("score", Type::Number, Is::Sum(WeightedSum::plain(0.0, told)))
}

/// Place of what a network says.
fn told(made: &mut Definitions, features: &Features, net: &Net) -> usize {
    let mut places = Vec::new();
    for (comes, (name, coded)) in net.comes().into_iter().zip(features.all()) {
        match (comes, coded) {
            (Comes::Levels { places: of_levels, missing, unknown }, Coded::Levels(bound, levels)) => {
                for (dimension, missing) in missing.iter().enumerate() {
                    let numbers: Vec<f64> = of_levels.iter().map(|place| place[dimension]).collect();
                    let node = Features::by_level(*bound, levels, &numbers, *missing, unknown[dimension]);
                    places.push(made.number(&format!("{name}_place_{}", dimension + 1), node));
                }
            }
            (_, Coded::Number(place)) => places.push(*place),
            (Comes::Number, Coded::Levels(..)) => {}
        }
    }
    let [first, second, output] = net.layers();
    let through = |made: &mut Definitions, from: &[usize], units: &[(f64, Vec<f64>)], rectified: bool| {
        let unit = |made: &mut Definitions, (constant, weights): &(f64, Vec<f64>)| {
            let terms = from.iter().copied().zip(weights.iter().copied()).collect();
            made.define("unit", Type::Number, Is::Sum(WeightedSum { constant: *constant, terms, rectified }))
        };
        units.iter().map(|of| unit(made, of)).collect::<Vec<_>>()
    };
    let units = through(made, &places, &first, true);
    let units = through(made, &units, &second, true);
    through(made, &units, &output, false)[0]
}
