//! `pronoia decide`.

use std::path::PathBuf;

use clap::Args;
use pronoia_core::decide::{Best, Prices, ProfitPoint, Ranking, Sensitivity};
use pronoia_core::number;
use serde::Serialize;

use crate::{Outcome, economics, fitting, records};

/// Weigh what acting on customers is worth, on rows that the model has not seen.
#[derive(Args)]
pub struct Decide {
    #[command(flatten)]
    table: records::Input,
    /// The model.
    #[arg(long)]
    model: PathBuf,
    /// What outcomes are worth: a TOML file, such as examples/economics.toml.
    #[arg(long)]
    economics: PathBuf,
    /// Governs the resamples behind the bands.
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Write the figures as JSON to this file.
    #[arg(long)]
    json: Option<PathBuf>,
}

/// What acting is worth.
#[derive(Serialize)]
struct Figures {
    rows: u64,
    events: u64,
    prices: Prices,
    /// The probability from which acting pays.
    break_even: Option<f64>,
    population: f64,
    /// Where most is earned, read on these rows, which flatters it a little.
    best: ProfitPoint,
    /// Shares of customers between which it is nearly as much.
    nearly: [f64; 2],
    /// Where the line was asked to be; else the best.
    here: ProfitPoint,
    all: ProfitPoint,
    sensitivity: Vec<Sensitivity>,
}

impl Decide {
    pub fn run(self) -> Outcome {
        let asked = economics::read(&self.economics)?;
        let model = records::read_model(&self.model)?;
        let (table, _) = self.table.read(&records::Terminal::new())?;
        let rows: Vec<usize> = (0..table.rows()).collect();
        let (probability, event) = fitting::told(&model, &table, &rows)?;
        let ranking = Ranking::of(&probability, &event, self.seed).map_err(|e| e.to_string())?;
        let prices = asked.economics.prices();
        let curve = ranking.profit(&prices, asked.population);
        let best = Best::of(&curve);
        let here = curve[asked.cut_off.map_or(best.at, |cut_off| ranking.position_of(cut_off))];
        let figures = Figures {
            rows: ranking.rows,
            events: ranking.events,
            prices,
            break_even: prices.break_even(),
            population: asked.population,
            best: curve[best.at],
            nearly: [curve[best.from].share, curve[best.to].share],
            here,
            all: curve[curve.len() - 1],
            sensitivity: Sensitivity::of_all(&asked.economics, here.acted, here.events),
        };
        match &self.json {
            Some(path) => records::write_json(path, &figures)?,
            None => figures.print(),
        }
        Ok(())
    }
}

impl Figures {
    fn print(&self) {
        println!("{} rows, {} events; money is for {} customers", self.rows, self.events, self.population);
        println!("one customer: with the event {:+.2}, without {:+.2}", self.prices.act_event, self.prices.act_other);
        match self.break_even {
            Some(p) => println!("acting pays above a probability of {p:.4}"),
            None => println!("acting pays for everyone or for no one"),
        }
        let line = |name: &str, p: &ProfitPoint| {
            println!(
                "{name:10} act from {:.4} on: {:.0} customers ({}), worth {} ({} to {})",
                p.cut_off.min(1.0),
                p.acted,
                number::percent(p.share),
                number::money(p.profit),
                number::money(p.low),
                number::money(p.high)
            );
        };
        line("best", &self.best);
        if self.here != self.best {
            line("chosen", &self.here);
        }
        line("all", &self.all);
        println!(
            "nearly as good: {} to {} of customers",
            number::percent(self.nearly[0]),
            number::percent(self.nearly[1])
        );
        println!("{} if", if self.here.profit > 0.0 { "loses money" } else { "would pay" });
        for s in &self.sensitivity {
            let value = s.assumption.value;
            let when = match s.break_even {
                None => "at no value".into(),
                Some(at) => format!("{} {at:.4}", if at < value { "below" } else { "above" }),
            };
            println!("  {:14} {value:>10.4}  {when}", s.assumption.word);
        }
    }
}
