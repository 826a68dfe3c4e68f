//! The layers of a network, and rows run through them forwards and back.

use rand::RngExt;
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::prepare::{Design, Feature, FeatureValues};

/// Dimensions of the space of a category at most.
const MOST_DIMENSIONS: usize = 8;

/// Rows that one thread runs through at a time.
const BLOCK: usize = 512;

/// A network of two layers on numbers and embedded categories.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Net {
    /// How each feature comes in, in the order of the design.
    inputs: Vec<InputLayer>,
    /// Units of both layers.
    units: [usize; 2],
    /// All weights: places of levels, first layer by input with its biases
    /// last, second layer alike, then the output with its bias.
    pub(super) weights: Vec<f32>,
}

/// How a feature comes in, with what a network has learned of it.
pub enum Comes {
    /// As it is.
    Number,
    /// As the place of its level.
    Levels {
        /// By code.
        places: Vec<Vec<f64>>,
        /// For a missing value.
        missing: Vec<f64>,
        /// For a value that was not seen.
        unknown: Vec<f64>,
    },
}

/// How a feature comes in.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum InputLayer {
    /// As it is.
    Number,
    /// As the place of its level; besides the levels, one place each for a
    /// missing and for an unknown value.
    Levels {
        levels: usize,
        dimensions: usize,
        /// Where the places begin among the weights.
        begin: usize,
    },
}

impl InputLayer {
    fn width(self) -> usize {
        match self {
            Self::Number => 1,
            Self::Levels { dimensions, .. } => dimensions,
        }
    }

    /// Where the place of a code begins among the weights.
    fn place(self, code: u32) -> usize {
        match self {
            Self::Number => 0,
            Self::Levels { levels, dimensions, begin } => {
                let slot = match code {
                    Feature::MISSING => levels,
                    code if (code as usize) < levels => code as usize,
                    _ => levels + 1,
                };
                begin + slot * dimensions
            }
        }
    }
}

/// What a row looks like on its way through.
pub struct ForwardPass {
    input: Vec<f32>,
    first: Vec<f32>,
    second: Vec<f32>,
    /// What of each layer's units is let through; 0 for silent ones.
    through: [Vec<f32>; 2],
    back_first: Vec<f32>,
    back_second: Vec<f32>,
}

impl Net {
    /// A network for a design, with weights drawn by lot, that gives everybody
    /// the log-odds `start` at first.
    pub fn new(design: &Design, first: usize, start: f64, rng: &mut ChaCha8Rng) -> Self {
        let mut begin = 0;
        let inputs: Vec<InputLayer> = design
            .features()
            .iter()
            .map(|feature| match &feature.values {
                FeatureValues::Number(_) => InputLayer::Number,
                FeatureValues::Levels { count, .. } => {
                    let dimensions = count.div_ceil(2).clamp(1, MOST_DIMENSIONS);
                    let entry = InputLayer::Levels { levels: *count, dimensions, begin };
                    begin += (count + 2) * dimensions;
                    entry
                }
            })
            .collect();
        let units = [first, first.div_ceil(2)];
        let mut net = Self { inputs, units, weights: Vec::new() };
        let [w1, w2, w3, end] = net.begins();
        let mut weights = vec![0.0f32; end];
        let mut draw = |range: std::ops::Range<usize>, inputs: usize| {
            let reach = (6.0 / inputs as f32).sqrt();
            weights[range].iter_mut().for_each(|w| *w = (rng.random::<f32>() * 2.0 - 1.0) * reach);
        };
        draw(0..w1, 600);
        draw(w1..w2 - units[0], net.width());
        draw(w2..w3 - units[1], units[0]);
        draw(w3..end - 1, 6 * units[1]);
        // An unknown level stands at the origin.
        for entry in &net.inputs {
            if let InputLayer::Levels { dimensions, .. } = entry {
                let place = entry.place(Feature::UNKNOWN);
                weights[place..place + dimensions].fill(0.0);
            }
        }
        weights[end - 1] = start as f32;
        net.weights = weights;
        net
    }

    /// Numbers that come into the first layer.
    fn width(&self) -> usize {
        self.inputs.iter().map(|entry| entry.width()).sum()
    }

    /// Where the first layer begins among the weights, the second, the output,
    /// and where they end.
    fn begins(&self) -> [usize; 4] {
        let places = |entry: &InputLayer| match entry {
            InputLayer::Number => 0,
            InputLayer::Levels { levels, dimensions, .. } => (levels + 2) * dimensions,
        };
        let first = self.inputs.iter().map(places).sum::<usize>();
        let second = first + (self.width() + 1) * self.units[0];
        let output = second + (self.units[0] + 1) * self.units[1];
        [first, second, output, output + self.units[1] + 1]
    }

    /// How each feature comes in, with the places of levels.
    pub fn comes(&self) -> Vec<Comes> {
        let of = |entry: &InputLayer| match *entry {
            InputLayer::Number => Comes::Number,
            InputLayer::Levels { levels, dimensions, .. } => {
                let place = |code: u32| -> Vec<f64> {
                    let begin = entry.place(code);
                    self.weights[begin..begin + dimensions].iter().map(|w| f64::from(*w)).collect()
                };
                Comes::Levels {
                    places: (0..levels as u32).map(place).collect(),
                    missing: place(Feature::MISSING),
                    unknown: place(Feature::UNKNOWN),
                }
            }
        };
        self.inputs.iter().map(of).collect()
    }

    /// Bias and weights of every unit of both layers and of the output.
    pub fn layers(&self) -> [Vec<(f64, Vec<f64>)>; 3] {
        let begins = self.begins();
        let units = [self.units[0], self.units[1], 1];
        std::array::from_fn(|layer| {
            let weights = &self.weights[begins[layer]..begins[layer + 1]];
            let inputs = weights.len() / units[layer] - 1;
            let of = |unit: usize| {
                let weight = |input: usize| f64::from(weights[input * units[layer] + unit]);
                (weight(inputs), (0..inputs).map(weight).collect())
            };
            (0..units[layer]).map(of).collect()
        })
    }

    /// Room for a row on its way.
    pub fn way(&self) -> ForwardPass {
        let [first, second] = self.units;
        ForwardPass {
            input: vec![0.0; self.width()],
            first: vec![0.0; first],
            second: vec![0.0; second],
            through: [vec![1.0; first], vec![1.0; second]],
            back_first: vec![0.0; first],
            back_second: vec![0.0; second],
        }
    }

    /// Runs a row forwards: its log-odds.
    pub fn forwards(&self, design: &Design, row: usize, way: &mut ForwardPass) -> f32 {
        let mut at = 0;
        for (entry, feature) in self.inputs.iter().zip(design.features()) {
            match &feature.values {
                FeatureValues::Number(v) => way.input[at] = v[row] as f32,
                FeatureValues::Levels { codes, .. } => {
                    let (place, width) = (entry.place(codes[row]), entry.width());
                    way.input[at..at + width].copy_from_slice(&self.weights[place..place + width]);
                }
            }
            at += entry.width();
        }
        let [w1, w2, w3, end] = self.begins();
        layer(&self.weights[w1..w2], &way.input, &way.through[0], &mut way.first);
        layer(&self.weights[w2..w3], &way.first, &way.through[1], &mut way.second);
        self.weights[end - 1] + dot(&self.weights[w3..end - 1], &way.second)
    }

    /// Runs a row back that was just run forwards: adds what each weight did to
    /// the loss, whose derivative by the log-odds is `slope`.
    pub fn back(&self, design: &Design, row: usize, slope: f32, way: &mut ForwardPass, gradient: &mut [f32]) {
        let [w1, w2, w3, end] = self.begins();
        gradient[end - 1] += slope;
        for (at, h) in way.second.iter().enumerate() {
            gradient[w3 + at] += slope * h;
            way.back_second[at] = if *h > 0.0 { slope * self.weights[w3 + at] * way.through[1][at] } else { 0.0 };
        }
        layer_back(&way.first, &way.back_second, &mut gradient[w2..w3]);
        let second = self.units[1];
        for (at, h) in way.first.iter().enumerate() {
            let weights = &self.weights[w2 + at * second..w2 + (at + 1) * second];
            way.back_first[at] = if *h > 0.0 { dot(weights, &way.back_second) * way.through[0][at] } else { 0.0 };
        }
        layer_back(&way.input, &way.back_first, &mut gradient[w1..w2]);
        let (first, mut at) = (self.units[0], 0);
        for (entry, feature) in self.inputs.iter().zip(design.features()) {
            if let FeatureValues::Levels { codes, .. } = &feature.values
                && codes[row] != Feature::UNKNOWN
            {
                let place = entry.place(codes[row]);
                for dimension in 0..entry.width() {
                    let begin = w1 + (at + dimension) * first;
                    gradient[place + dimension] += dot(&self.weights[begin..begin + first], &way.back_first);
                }
            }
            at += entry.width();
        }
    }

    /// Log-odds of every row of the design.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        let mut out = vec![0.0; design.rows()];
        out.par_chunks_mut(BLOCK).enumerate().for_each_init(
            || self.way(),
            |way, (block, out)| {
                for (at, eta) in out.iter_mut().enumerate() {
                    *eta = f64::from(self.forwards(design, block * BLOCK + at, way));
                }
            },
        );
        out
    }
}

impl ForwardPass {
    /// Silences a share of the units by lot, and strengthens the others.
    pub fn drop_out(&mut self, share: f32, rng: &mut ChaCha8Rng) {
        let louder = 1.0 / (1.0 - share);
        for units in &mut self.through {
            units.iter_mut().for_each(|unit| *unit = if rng.random::<f32>() < share { 0.0 } else { louder });
        }
    }
}

/// Rectified sums of inputs; the biases stand last among the weights.
fn layer(weights: &[f32], input: &[f32], through: &[f32], out: &mut [f32]) {
    let units = out.len();
    out.copy_from_slice(&weights[input.len() * units..]);
    for (x, row) in input.iter().zip(weights.chunks_exact(units)) {
        if *x != 0.0 {
            out.iter_mut().zip(row).for_each(|(sum, w)| *sum += x * w);
        }
    }
    out.iter_mut().zip(through).for_each(|(sum, through)| *sum = sum.max(0.0) * through);
}

/// Adds the gradient of a layer's weights.
fn layer_back(input: &[f32], back: &[f32], gradient: &mut [f32]) {
    let units = back.len();
    let (of_inputs, of_biases) = gradient.split_at_mut(input.len() * units);
    for (x, row) in input.iter().zip(of_inputs.chunks_exact_mut(units)) {
        if *x != 0.0 {
            row.iter_mut().zip(back).for_each(|(sum, b)| *sum += x * b);
        }
    }
    of_biases.iter_mut().zip(back).for_each(|(sum, b)| *sum += b);
}

/// Eight running sums keep the processor's lanes busy; their order is fixed.
fn dot(a: &[f32], b: &[f32]) -> f32 {
    let mut lanes = [0.0f32; 8];
    let (a8, b8) = (a.chunks_exact(8), b.chunks_exact(8));
    let rest: f32 = a8.remainder().iter().zip(b8.remainder()).map(|(x, y)| x * y).sum();
    for (x, y) in a8.zip(b8) {
        for lane in 0..8 {
            lanes[lane] += x[lane] * y[lane];
        }
    }
    lanes.iter().sum::<f32>() + rest
}
