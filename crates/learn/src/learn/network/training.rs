//! The training of one network.

use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;

use super::layers::Net;
use super::{NetworkSettings, Target};
use crate::learn::FitError;
use crate::prepare::Design;
use pronoia_data::Progress;
use pronoia_data::stats::{log_loss_of_log_odds, logit, sigmoid};

/// Times through all rows without improvement after which no more are tried.
const PATIENCE: usize = 6;

/// How far the running means of gradients and of their squares look back.
const MEMORY: [f32; 2] = [0.9, 0.999];

/// A trained network, and how it came about.
pub struct Course {
    /// As it was when rows held back were told best.
    pub net: Net,
    /// Mean log loss after each time through the rows: of them as they were met,
    /// and of the rows held back.
    pub curve: Vec<(f64, f64)>,
}

impl Course {
    /// Trains on some rows of a design until others are told no better.
    pub fn run(
        settings: &NetworkSettings,
        (design, target): (&Design, &Target),
        (rows, held_back): (&[usize], &[usize]),
        seed: u64,
        (speaks, progress): (bool, &dyn Progress),
    ) -> Result<Self, FitError> {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let rate = target.rate();
        let mut net = Net::new(design, settings.units, logit(rate), &mut rng);
        let mut steps = AdamSteps::new(net.weights.len());
        let mut best = (f64::INFINITY, net.clone(), 0);
        let mut curve = Vec::new();
        let mut order = rows.to_vec();
        let held = target.held_back(held_back);
        for epoch in 0..settings.epochs {
            progress.go_on()?;
            order.shuffle(&mut rng);
            let done = epoch as f64 / settings.epochs as f64;
            let speed = settings.learning_rate * 0.5 * (1.0 + (std::f64::consts::PI * done).cos());
            let met = through((&mut net, &mut steps), (design, target), &order, (settings, speed), &mut rng, progress)?;
            let told = loss(&net, design, &held, held_back);
            curve.push((met, told));
            if speaks {
                let words = format!("Epoch {}, log loss {told:.4} on early-stopping rows", epoch + 1);
                progress.tell(&words, done);
                progress.learned(epoch + 1, (met, told));
            }
            if told < best.0 {
                best = (told, net.clone(), epoch);
            } else if epoch >= best.2 + PATIENCE {
                break;
            }
        }
        Ok(Self { net: best.1, curve })
    }
}

/// Once through all rows; their mean log loss as they were met.
fn through(
    (net, steps): (&mut Net, &mut AdamSteps),
    (design, target): (&Design, &Target),
    order: &[usize],
    (settings, speed): (&NetworkSettings, f64),
    rng: &mut ChaCha8Rng,
    progress: &dyn Progress,
) -> Result<f64, FitError> {
    let mut way = net.way();
    let mut gradient = vec![0.0f32; net.weights.len()];
    let (mut total, mut weights) = (0.0, 0.0);
    for batch in order.chunks(settings.batch) {
        progress.go_on()?;
        gradient.fill(0.0);
        let counts: f64 = batch.iter().map(|&row| target.weight(row)).sum();
        if counts <= 0.0 {
            continue;
        }
        for &row in batch {
            if settings.dropout > 0.0 {
                way.drop_out(settings.dropout as f32, rng);
            }
            let eta = f64::from(net.forwards(design, row, &mut way));
            let (weight, event) = (target.weight(row), target.event[row]);
            total += weight * log_loss_of_log_odds(eta, event);
            let slope = weight / counts * (sigmoid(eta) - f64::from(u8::from(event)));
            net.back(design, row, slope as f32, &mut way, &mut gradient);
        }
        weights += counts;
        steps.take(&mut net.weights, &gradient, speed as f32, settings.weight_decay as f32);
    }
    Ok(total / weights)
}

/// Mean log loss of some rows; `held` holds their outcomes.
fn loss(net: &Net, design: &Design, held: &Target, rows: &[usize]) -> f64 {
    let mut way = net.way();
    let (mut total, mut weights) = (0.0, 0.0);
    for (at, &row) in rows.iter().enumerate() {
        let weight = held.weight(at);
        total += weight * log_loss_of_log_odds(f64::from(net.forwards(design, row, &mut way)), held.event[at]);
        weights += weight;
    }
    total / weights
}

/// Steps against the gradient, each weight at a pace of its own (Kingma & Ba
/// 2015; decay apart from the gradient, Loshchilov & Hutter 2019).
struct AdamSteps {
    mean: Vec<f32>,
    square: Vec<f32>,
    taken: i32,
}

impl AdamSteps {
    fn new(weights: usize) -> Self {
        Self { mean: vec![0.0; weights], square: vec![0.0; weights], taken: 0 }
    }

    fn take(&mut self, weights: &mut [f32], gradient: &[f32], speed: f32, decay: f32) {
        self.taken += 1;
        let [near, far] = MEMORY;
        let (warm_mean, warm_square) = (1.0 - near.powi(self.taken), 1.0 - far.powi(self.taken));
        // The last weight is the bias of the output: it holds the event rate, and does not shrink.
        let last = weights.len() - 1;
        for at in 0..weights.len() {
            let g = gradient[at];
            self.mean[at] = near * self.mean[at] + (1.0 - near) * g;
            self.square[at] = far * self.square[at] + (1.0 - far) * g * g;
            let step = (self.mean[at] / warm_mean) / ((self.square[at] / warm_square).sqrt() + 1e-8);
            let shrink = if at == last { 0.0 } else { decay * weights[at] };
            weights[at] -= speed * (step + shrink);
        }
    }
}
