import { scaleLinear } from "d3-scale";
import { line as path } from "d3-shape";
import { fixed, marks, money } from "./figures.js";
import { drawing, el, widthOf } from "./svg.js";
import { addTools } from "./tools.js";

const title = (figure) => figure.querySelector("figcaption").textContent;

const day = (at) => new Date(at * 864e5).toISOString().slice(0, 10);

let patterns = 0;

// Draws a chart at the width that it has, again when that changes, and adds what every chart can do.
function chart(figure, draw, rows) {
  const place = figure.querySelector(".plot");
  draw(place, widthOf(place));
  addTools(figure, title(figure), rows);
  let width = widthOf(place);
  addEventListener("resize", () => {
    if (widthOf(place) === width) return;
    width = widthOf(place);
    draw(place, width);
  });
}

// The shape of a numeric column: bars over its range.
export function drawShape(figure, data) {
  const edge = (at) => (data.date ? day(at) : at);
  const rows = data.bars.map((n, i) => [edge(data.edges[i]), edge(data.edges[i + 1]), n]);
  chart(figure, (place, width) => shape(place, width, data), [["from", "to", "rows"], ...rows]);
}

function shape(place, width, { edges, bars, date }) {
  const [height, foot] = [180, 22];
  const svg = drawing(place, width, height);
  const x = scaleLinear([edges[0], edges.at(-1)], [6, width - 6]);
  const y = scaleLinear([0, Math.max(...bars)], [height - foot, 8]);
  bars.forEach((n, i) => {
    svg.append(el("rect", { class: "bar", x: x(edges[i]) + 0.5, width: Math.max(x(edges[i + 1]) - x(edges[i]) - 1, 1), y: y(n), height: height - foot - y(n) }));
  });
  svg.append(el("line", { class: "axis", x1: 0, x2: width, y1: height - foot, y2: height - foot }));
  const places = x.ticks(date ? 4 : 6);
  const tick = date ? day : marks(places);
  for (const at of places) svg.append(el("text", { x: x(at), y: height - 6, "text-anchor": "middle" }, tick(at)));
}

// The event rate as a line over where the customers are; hatched where there are few. With an average
// effect, that is the line, and what happened stands beside it.
export function drawStrip(figure, data) {
  const edge = (at) => (data.date ? day(at) : at);
  const said = (i) => (data.average ? [data.average[i]] : []);
  const rows = data.rows.map((n, i) => [edge(data.edges[i]), edge(data.edges[i + 1]), n, ...said(i), data.rates[i] ?? "", data.low[i] ?? "", data.high[i] ?? ""]);
  const head = ["from", "to", "customers", ...(data.average ? ["predicted on average"] : []), "event rate", "95 % from", "to"];
  chart(figure, (place, width) => strip(place, width, data), [head, ...rows]);
}

function strip(place, width, { edges, rows, rates, low, high, sparse, date, at, average }) {
  const [height, left, foot] = [210, 40, 22];
  const svg = drawing(place, width, height);
  const x = scaleLinear([edges[0], edges.at(-1)], [left, width - 6]);
  const enough = rows.map((n) => n >= sparse);
  const top = Math.max(...high.filter((_, i) => enough[i]), ...(average ?? []), 0.02);
  const y = scaleLinear([0, top], [height - foot, 14]).nice(3);
  const bar = scaleLinear([0, Math.max(...rows)], [0, (height - foot) * 0.45]);
  const clamp = (v) => Math.min(v, y.domain()[1]);
  // Every drawing needs a pattern of its own name.
  const hatch = `hatch-${(patterns += 1)}`;
  const pattern = el("pattern", { id: hatch, width: 6, height: 6, patternUnits: "userSpaceOnUse", patternTransform: "rotate(45)" });
  pattern.append(el("line", { class: "hatch", x1: 0, x2: 0, y1: 0, y2: 6 }));
  svg.append(el("defs", {}, pattern));
  rows.forEach((n, i) => {
    const [from, to] = [x(edges[i]), x(edges[i + 1])];
    if (!enough[i]) svg.append(el("rect", { fill: `url(#${hatch})`, x: from, width: to - from, y: 14, height: height - foot - 14 }));
    svg.append(el("rect", { class: "bar", x: from + 0.5, width: Math.max(to - from - 1, 1), y: height - foot - bar(n), height: bar(n) }));
  });
  for (const v of y.ticks(3)) {
    svg.append(el("line", { class: "grid", x1: left, x2: width - 6, y1: y(v), y2: y(v) }));
    svg.append(el("text", { x: left - 6, y: y(v) + 4, "text-anchor": "end" }, `${Math.round(v * 100)} %`));
  }
  const middle = (i) => (x(edges[i]) + x(edges[i + 1])) / 2;
  const points = rates.map((rate, i) => ({ i, rate, low: low[i], high: high[i] })).filter((p) => p.rate !== null && enough[p.i]);
  if (average) {
    for (const p of points) {
      svg.append(el("line", { class: "happened-reach", x1: middle(p.i), x2: middle(p.i), y1: y(p.low), y2: y(clamp(p.high)) }));
      svg.append(el("circle", { class: "happened", cx: middle(p.i), cy: y(p.rate), r: 3 }));
    }
    svg.append(el("path", { class: "said-line", d: path((_, i) => x(at[i]), (v) => y(v))(average) }));
  } else {
    const band = [...points.map((p) => [middle(p.i), y(clamp(p.high))]), ...points.map((p) => [middle(p.i), y(p.low)]).reverse()];
    svg.append(el("polygon", { class: "rate-band", points: band.map((p) => p.join(",")).join(" ") }));
    svg.append(el("path", { class: "rate-line", d: path((p) => middle(p.i), (p) => y(p.rate))(points) }));
    for (const p of points) svg.append(el("circle", { class: "rate-point", cx: middle(p.i), cy: y(p.rate), r: 2 }));
  }
  svg.append(el("line", { class: "axis", x1: left, x2: width - 6, y1: height - foot, y2: height - foot }));
  const places = x.ticks(date ? 4 : 6);
  const tick = date ? day : marks(places);
  for (const at of places) svg.append(el("text", { x: x(at), y: height - 6, "text-anchor": "middle" }, tick(at)));
}

// One or more lines over common axes, named at their ends.
export function drawLines(figure, data) {
  const rows = data.lines.flatMap((l) => l.points.map((p) => [l.name, p[0], p[1]]));
  chart(figure, (place, width) => lines(place, width, data), [["line", data.x, data.y], ...rows]);
}

// The same without what a chart can do, for one that is drawn anew as it grows.
export function drawGrowing(place, data) {
  lines(place, widthOf(place), data);
}

function lines(place, width, { x: xName, y: yName, lines, percent, diagonal, most }) {
  const end = most ?? 1;
  const [height, left, foot] = [Math.min(300, width * 0.7), 52, 40];
  const svg = drawing(place, width, height);
  const all = lines.flatMap((l) => l.points);
  const extent = (i) => [Math.min(...all.map((p) => p[i])), Math.max(...all.map((p) => p[i]))];
  const x = scaleLinear(percent ? [0, end] : extent(0), [left, width - 10]);
  const y = scaleLinear(percent ? [0, end] : extent(1), [height - foot, 12]);
  if (!percent) y.nice();
  const tick = (ticks) => (percent ? (v) => `${Math.round(v * 100)}` : marks(ticks));
  const [along, up] = [tick(x.ticks(6)), tick(y.ticks(5))];
  for (const v of y.ticks(5)) {
    svg.append(el("line", { class: "grid", x1: left, x2: width - 10, y1: y(v), y2: y(v) }));
    svg.append(el("text", { x: left - 6, y: y(v) + 4, "text-anchor": "end" }, up(v)));
  }
  for (const v of x.ticks(6)) svg.append(el("text", { x: x(v), y: height - foot + 16, "text-anchor": "middle" }, along(v)));
  svg.append(el("line", { class: "axis", x1: left, x2: width - 10, y1: height - foot, y2: height - foot }));
  svg.append(el("text", { x: width - 10, y: height - 6, "text-anchor": "end" }, xName + (percent ? ", %" : "")));
  svg.append(el("text", { x: left, y: 4 }, yName + (percent ? ", %" : "")));
  if (diagonal) svg.append(el("line", { class: "diagonal", x1: x(0), y1: y(0), x2: x(end), y2: y(end) }));
  const draw = path((p) => x(p[0]), (p) => y(p[1]));
  lines.forEach((l, i) => {
    svg.append(el("path", { class: `line line-${i % 4}`, d: draw(l.points) }));
    if (percent) {
      // The lower right corner is always free: no curve of ours runs below the diagonal for long.
      const key = height - foot - 12 - (lines.length - 1 - i) * 17;
      svg.append(el("line", { class: `line line-${i % 4}`, x1: width - 190, x2: width - 166, y1: key - 4, y2: key - 4 }));
      svg.append(el("text", { class: `name-${i % 4}`, x: width - 160, y: key }, l.name));
    } else {
      // Above and to the right of the middle of a falling line there is room; of two, the lower has it below.
      const half = (points) => points[Math.floor(points.length * 0.55)];
      const middle = half(l.points);
      const lower = lines.some((other) => half(other.points)[1] > middle[1]);
      svg.append(el("text", { class: `name-${i % 4}`, x: x(middle[0]) + (lower ? -6 : 6), y: y(middle[1]) + (lower ? 16 : -8), "text-anchor": lower ? "end" : "start" }, l.name));
    }
  });
}

// Candidates on a money axis, with the baselines as rules through all of them.
export function drawStanding(figure, data) {
  const rows = data.lines.map((l) => [l.name, l.profit, l.low, l.high]);
  chart(figure, (place, width) => standing(place, width, data), [["candidate", "profit", "from", "to"], ...rows, ["act on nobody", 0, 0, 0], ["act on everybody", data.all, data.all, data.all], ...(data.today ? [["today’s rule", data.today.profit, data.today.low, data.today.high]] : [])]);
}

function standing(place, width, { lines, none, all, today }) {
  const [left, row] = [190, 34];
  const height = lines.length * row + 58 + (today ? 16 : 0);
  const svg = drawing(place, width, height);
  const ends = lines.flatMap((l) => [l.low, l.high]).concat(none);
  // "Act on all" may lie far below everything else; it is then said, not drawn to scale.
  const span = Math.max(...ends) - Math.min(...ends);
  const near = all !== null && all > Math.min(...ends) - span * 0.6;
  if (near) ends.push(all);
  if (today) ends.push(today.profit);
  const x = scaleLinear([Math.min(...ends), Math.max(...ends)], [left, width - 90]).nice();
  for (const v of x.ticks(6)) {
    svg.append(el("line", { class: "grid", x1: x(v), x2: x(v), y1: 22, y2: height - 22 }));
    svg.append(el("text", { x: x(v), y: height - 6, "text-anchor": "middle" }, fixed(v, 0)));
  }
  const rule = (v, name, anchor) => {
    svg.append(el("line", { class: "standing-none", x1: x(v), x2: x(v), y1: 18, y2: height - 22 }));
    svg.append(el("text", { x: x(v) + (anchor === "end" ? -4 : 4), y: 13, "text-anchor": anchor }, name));
  };
  rule(none, "act on nobody", "start");
  if (near) rule(all, "act on everybody", "end");
  else if (all !== null) svg.append(el("text", { x: left - 4, y: 13, "text-anchor": "end" }, `← act on everybody: ${money(all)}`));
  // Named at the foot, where the names of the other rules are not.
  if (today) {
    svg.append(el("line", { class: "standing-today", x1: x(today.profit), x2: x(today.profit), y1: 18, y2: height - 36 }));
    const past = x(today.profit) > width - 220;
    svg.append(el("text", { class: "strong", x: x(today.profit) + (past ? -6 : 6), y: height - 26, "text-anchor": past ? "end" : "start" }, `today’s rule ${money(today.profit)}`));
  }
  lines.forEach((l, i) => {
    const y = 40 + i * row;
    svg.append(el("text", { class: "strong", x: 0, y: y + 4 }, l.name + (l.stale ? " (stale)" : "")));
    svg.append(el("line", { class: "whisker", x1: x(l.low), x2: x(l.high), y1: y, y2: y }));
    for (const end of [l.low, l.high]) svg.append(el("line", { class: "whisker", x1: x(end), x2: x(end), y1: y - 5, y2: y + 5 }));
    svg.append(el("path", { class: "standing-mark", d: `M${x(l.profit)} ${y - 7}l7 7l-7 7l-7-7z` }));
    svg.append(el("text", { class: "on-money", x: x(l.high) + 10, y: y + 4 }, money(l.profit)));
  });
}
