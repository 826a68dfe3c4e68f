//! Quick segments as a map: width is the share of customers, shade the event rate.

use actix_web::web;
use askama::Template;
use pronoia_core::drivers::Segment;
use pronoia_core::number::{count, percent};
use serde::Deserialize;

use super::super::{PageResult, StudyPath};
use super::{DriversContext, DriversStop, ratio};
use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::session::Visitor;

/// Width and height of the drawing, in its own units.
const WIDTH: f64 = 940.0;
const ROW: f64 = 74.0;

/// Shades of the blocks.
const SHADES: f64 = 8.0;

#[derive(Template)]
#[template(path = "drivers/segments.html")]
struct SegmentsPage {
    frame: Frame,
    stop: DriversStop,
    heading: String,
    blocks: Vec<SegmentBlock>,
    leaves: Vec<SegmentLine>,
    chosen: Option<String>,
    height: String,
    looked: bool,
}

/// A block of the map.
struct SegmentBlock {
    x: String,
    y: String,
    width: String,
    height: String,
    lines: Vec<String>,
    name: String,
    href: String,
    shade: usize,
    open: bool,
}

/// A segment as a line of a table.
struct SegmentLine {
    rule: String,
    href: String,
    rows: String,
    share: String,
    rate: String,
    ratio: String,
    stability: String,
}

/// The segment that is open: the parts on the way to it, `0.1`.
#[derive(Deserialize)]
pub struct SegmentsQuery {
    segment: Option<String>,
}

/// The page.
pub async fn segments(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<SegmentsQuery>,
) -> PageResult {
    let DriversContext { frame, stop, drivers, .. } = DriversContext::at(&app, &visitor, path.id, "segments").await?;
    let Some(drivers) = drivers else {
        let heading = "Which customers are alike?".into();
        let (blocks, leaves) = (Vec::new(), Vec::new());
        return html(&SegmentsPage {
            frame,
            stop,
            heading,
            blocks,
            leaves,
            chosen: None,
            height: "0".into(),
            looked: false,
        });
    };
    let all = &drivers.segments.all;
    let mut drawn = SegmentsChart {
        base: format!("{}/segments", stop.base),
        open: query.segment.clone().unwrap_or_default(),
        all,
        highest: highest(all),
        blocks: Vec::new(),
        leaves: Vec::new(),
        chosen: None,
        deepest: 0,
    };
    drawn.draw(all, "", (0.0, WIDTH), 0, &mut Vec::new());
    let heading = match drawn.leaves.first() {
        Some(_) if !all.parts.is_empty() => {
            format!(
                "{} segments, with rates from {} to {}.",
                drawn.leaves.len(),
                percent(lowest(all)),
                percent(drawn.highest)
            )
        }
        _ => "No split of the customers stands out enough to make a segment.".into(),
    };
    drawn.leaves.sort_by(|a, b| b.0.total_cmp(&a.0));
    html(&SegmentsPage {
        frame,
        stop,
        heading,
        height: format!("{}", (drawn.deepest + 1) as f64 * ROW),
        blocks: drawn.blocks,
        leaves: drawn.leaves.into_iter().map(|l| l.1).collect(),
        chosen: drawn.chosen,
        looked: true,
    })
}

fn highest(segment: &Segment) -> f64 {
    segment.parts.iter().map(highest).fold(segment.count.rate(), f64::max)
}

fn lowest(segment: &Segment) -> f64 {
    segment.parts.iter().map(lowest).fold(segment.count.rate(), f64::min)
}

struct SegmentsChart<'a> {
    base: String,
    open: String,
    all: &'a Segment,
    highest: f64,
    blocks: Vec<SegmentBlock>,
    leaves: Vec<(f64, SegmentLine)>,
    chosen: Option<String>,
    deepest: usize,
}

impl SegmentsChart<'_> {
    fn draw(&mut self, segment: &Segment, path: &str, (from, to): (f64, f64), depth: usize, way: &mut Vec<String>) {
        self.deepest = self.deepest.max(depth);
        let condition = segment.condition();
        let before = way.clone();
        if let (Some(condition), Some(column)) = (&condition, &segment.column) {
            // A further split by the same column says all that the first one said.
            way.retain(|earlier| !earlier.starts_with(&format!("{column}: ")));
            way.push(condition.clone());
        }
        let rule = if way.is_empty() { "all customers".to_owned() } else { way.join(", and ") };
        let line = self.line(segment, &rule, path);
        let open = self.open == path;
        if open {
            self.chosen = Some(self.sentence(segment, &rule));
        }
        let (column, rest) = match &condition {
            Some(text) => text.split_once(": ").map_or((text.as_str(), ""), |(a, b)| (a, b)),
            None => ("all customers", ""),
        };
        let room = ((to - from - 14.0) / 6.6).max(0.0) as usize;
        let cut = |text: &str| {
            if text.chars().count() <= room {
                text.to_owned()
            } else {
                text.chars().take(room.saturating_sub(1)).collect::<String>() + "…"
            }
        };
        let (rate, rows) = (percent(segment.count.rate()), count(segment.count.rows));
        let both = format!("{rate} · {rows}");
        let figures = if both.chars().count() <= room { both } else { rate };
        let texts = [column.to_owned(), rest.to_owned(), figures];
        let lines =
            if room < 5 { Vec::new() } else { texts.iter().filter(|t| !t.is_empty()).map(|t| cut(t)).collect() };
        self.blocks.push(SegmentBlock {
            x: format!("{from:.1}"),
            y: format!("{:.1}", depth as f64 * ROW),
            width: format!("{:.1}", (to - from - 2.0).max(1.0)),
            height: format!("{:.1}", ROW - 2.0),
            lines,
            name: format!("{rule}: {} of {}", percent(segment.count.rate()), count(segment.count.rows)),
            href: line.href.clone(),
            shade: (segment.count.rate() / self.highest * SHADES).round() as usize,
            open,
        });
        if segment.parts.is_empty() {
            self.leaves.push((segment.count.rate(), line));
        }
        let mut at = from;
        for (i, part) in segment.parts.iter().enumerate() {
            let width = (to - from) * part.count.rows as f64 / segment.count.rows.max(1) as f64;
            let below = if path.is_empty() { i.to_string() } else { format!("{path}.{i}") };
            self.draw(part, &below, (at, at + width), depth + 1, way);
            at += width;
        }
        *way = before;
    }

    fn line(&self, segment: &Segment, rule: &str, path: &str) -> SegmentLine {
        SegmentLine {
            rule: rule.to_owned(),
            href: if path.is_empty() { self.base.clone() } else { format!("{}?segment={path}", self.base) },
            rows: count(segment.count.rows),
            share: percent(segment.count.rows as f64 / self.all.count.rows.max(1) as f64),
            rate: percent(segment.count.rate()),
            ratio: ratio(segment.count.rate(), self.all.count.rate()),
            stability: format!("{:.0}", segment.stability),
        }
    }

    fn sentence(&self, segment: &Segment, rule: &str) -> String {
        let (low, high) = segment.count.interval();
        let firm = if segment.column.is_some() {
            format!(
                " Of 100 bootstrap samples of these rows, {:.0} make the split above it by the same column.",
                segment.stability
            )
        } else {
            String::new()
        };
        format!(
            "Customers with {rule}: {} of {} ({}). Of them {} have the event, {} (95 % CI {} to {}), {} times the overall rate.{firm}",
            count(segment.count.rows),
            count(self.all.count.rows),
            percent(segment.count.rows as f64 / self.all.count.rows.max(1) as f64),
            count(segment.count.events),
            percent(segment.count.rate()),
            percent(low),
            percent(high),
            pronoia_core::number::fixed(segment.count.rate() / self.all.count.rate(), 2),
        )
        .replace("Customers with all customers", "All customers")
    }
}
