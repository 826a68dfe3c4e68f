import { scaleLinear } from "d3-scale";
import { area, line as path } from "d3-shape";
import { fixed, money, percent, signed } from "./figures.js";
import { drawing, el, widthOf } from "./svg.js";
import { downloads } from "./tools.js";

const LEFT = 52;
const MARKS = { top: 4, height: 196 };
const CURVE = { top: 232, height: 172 };
const FOOT = 446;
const [SHARE, CUT_OFF, ACTED, EVENTS, PROFIT, LOW, HIGH] = [0, 1, 2, 3, 4, 5, 6];

// The thousand and the profit curve below it share one axis: the share of
// customers acted on. Moving the line moves everything that depends on it.
export function decide(board) {
  const place = board.querySelector("[data-thousand]");
  const form = board.querySelector("[data-amounts]");
  const state = { data: JSON.parse(board.dataset.decide), typed: false };
  let view = draw(place, state.data);

  const move = (at, byHand = true) => {
    const last = state.data.points.length - 1;
    state.data.at = Math.min(Math.max(at, 0), last);
    view.place(state.data.at);
    write(board, state.data);
    if (byHand) {
      form.querySelector("[data-line]").value = state.data.points[state.data.at][CUT_OFF];
      form.querySelector("[data-line-as]").value = "probability";
      form.querySelector("[data-keep]").disabled = false;
      ask();
    }
  };

  // What each assumption means is worked out where the amounts are.
  let asking = 0;
  const ask = () => {
    clearTimeout(asking);
    asking = setTimeout(async () => {
      const answer = await fetch(`${board.dataset.sensitivity}?${typed(form)}`);
      if (answer.ok) document.querySelector("[data-assumptions]").innerHTML = await answer.text();
    }, 250);
  };

  let waiting = 0;
  let frame = 0;
  const drag = (event) => {
    const box = place.getBoundingClientRect();
    const share = view.x.invert(event.clientX - box.left);
    cancelAnimationFrame(frame);
    frame = requestAnimationFrame(() => move(nearest(state.data.points, share)));
  };
  place.addEventListener("pointerdown", (event) => {
    place.setPointerCapture(event.pointerId);
    drag(event);
  });
  place.addEventListener("pointermove", (event) => {
    if (place.hasPointerCapture(event.pointerId)) drag(event);
  });

  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey || event.target.closest("input, select, textarea, dialog")) return;
    const onHandle = event.target.closest?.(".handle");
    const small = { ",": -1, ".": 1, "<": -25, ">": 25, ";": -25, ":": 25 }[event.key];
    const arrow = onHandle && { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1, PageDown: -25, PageUp: 25 }[event.key];
    const step = small ?? arrow;
    if (onHandle && (event.key === "Home" || event.key === "End")) {
      event.preventDefault();
      return move(event.key === "Home" ? 0 : state.data.points.length - 1);
    }
    if (!step) return;
    event.preventDefault();
    move(state.data.at + step * (event.shiftKey && Math.abs(step) === 1 ? 25 : 1));
  });

  const reprice = async () => {
    const answer = await fetch(`${board.dataset.curve}?${typed(form)}`, { headers: { Accept: "application/json" } });
    const problem = form.querySelector("[data-problem]");
    if (!answer.ok) {
      const page = new DOMParser().parseFromString(await answer.text(), "text/html");
      problem.textContent = page.querySelector(".lead")?.textContent ?? "That could not be worked out; check the amounts.";
      problem.hidden = false;
      return;
    }
    problem.hidden = true;
    state.data = await answer.json();
    ask();
    view = draw(place, state.data);
    move(state.data.at, false);
    form.querySelector("[data-keep]").disabled = false;
  };
  form.addEventListener("input", () => {
    clearTimeout(waiting);
    waiting = setTimeout(reprice, 250);
  });
  addEventListener("resize", () => {
    view = draw(place, state.data);
  });
  const names = ["share", "cut-off", "acted on", "events", "worth", "from", "to"];
  const tools = document.createElement("p");
  tools.className = "chart-tools";
  tools.append("Download: ", ...downloads(board, "Worth by share acted on", () => [names, ...state.data.points]));
  board.querySelector("[data-table-of-curve]").after(tools);
  write(board, state.data);
}

// The amounts in the form; what is empty is not typed.
function typed(form) {
  const fields = new URLSearchParams(new FormData(form));
  fields.delete("csrf");
  for (const [name, value] of [...fields]) if (value.trim() === "" && name !== "population") fields.delete(name);
  return fields;
}

function nearest(points, share) {
  let [low, high] = [0, points.length - 1];
  while (high - low > 1) {
    const middle = (low + high) >> 1;
    if (points[middle][SHARE] < share) low = middle;
    else high = middle;
  }
  return share - points[low][SHARE] < points[high][SHARE] - share ? low : high;
}

// Draws everything that does not move, and gives a function that moves the rest.
function draw(place, data) {
  const width = widthOf(place);
  const right = width - 10;
  const svg = drawing(place, width, FOOT);
  svg.removeAttribute("aria-hidden");
  const x = scaleLinear([0, 1], [LEFT, right]);
  const acted = el("rect", { class: "acted", x: LEFT, y: MARKS.top, width: 0, height: MARKS.height });
  svg.append(acted, marks(data.marks, right));

  const { points } = data;
  const profits = points.flatMap((p) => [p[LOW], p[HIGH]]);
  // What is lost by acting on nearly everybody would flatten the part that matters.
  const top = Math.max(...profits, 0);
  const bottom = Math.max(Math.min(...profits, 0), -top || Math.min(...profits));
  const y = scaleLinear([bottom, top], [CURVE.top + CURVE.height, CURVE.top]).nice();
  const clip = el("clipPath", { id: "curve-clip" }, el("rect", { x: LEFT, y: CURVE.top - 14, width: right - LEFT, height: CURVE.height + 14 }));
  const curves = el("g", { "clip-path": "url(#curve-clip)" });
  curves.append(el("path", { class: "band", d: area((p) => x(p[SHARE]), (p) => y(p[LOW]), (p) => y(p[HIGH]))(points) }));
  for (const v of y.ticks(5)) {
    svg.append(el("line", { class: v === 0 ? "axis" : "grid", x1: LEFT, x2: right, y1: y(v), y2: y(v) }));
    svg.append(el("text", { x: LEFT - 6, y: y(v) + 4, "text-anchor": "end" }, fixed(v, 0)));
  }
  curves.append(el("path", { class: "profit", d: path((p) => x(p[SHARE]), (p) => y(p[PROFIT]))(points) }));
  svg.append(clip, curves);
  const axis = CURVE.top + CURVE.height;
  svg.append(el("line", { class: "axis", x1: LEFT, x2: right, y1: axis, y2: axis }));
  for (const v of x.ticks(10)) svg.append(el("text", { x: x(v), y: axis + 16, "text-anchor": v === 1 ? "end" : "middle", dx: v === 1 ? 8 : 0 }, v === 1 ? "100 %" : String(Math.round(v * 100))));
  svg.append(el("text", { x: right, y: axis + 34, "text-anchor": "end" }, "share of customers acted on"));
  svg.append(el("text", { x: LEFT, y: axis + 34 }, `worth ${data.whom}`));

  const best = points[data.best];
  const [from, to] = [points[data.from][SHARE], points[data.to][SHARE]];
  svg.append(el("rect", { class: "nearly", x: x(from), y: axis - 7, width: Math.max(x(to) - x(from), 2), height: 6 }));
  const beyond = x(to) + 6 < right - 190;
  svg.append(el("text", { class: "on-money", x: beyond ? x(to) + 6 : x(from) - 6, y: axis - 2, "text-anchor": beyond ? "start" : "end" }, `nearly as good: ${fixed(from * 100, 0)} – ${fixed(to * 100, 0)} %`));
  svg.append(el("circle", { class: "best", cx: x(best[SHARE]), cy: y(best[PROFIT]), r: 5 }));
  svg.append(el("text", { class: "on-money", x: x(best[SHARE]) + 9, y: y(best[PROFIT]) - 8 }, `best ${money(best[PROFIT])} at ${fixed(best[SHARE] * 100, 0)} %`));

  const line = el("line", { class: "the-line", y1: MARKS.top, y2: axis });
  const handle = el("rect", { class: "handle", y: MARKS.top + MARKS.height + 4, width: 18, height: 14, tabindex: 0, role: "slider", "aria-label": "Share of customers acted on", "aria-valuemin": 0, "aria-valuemax": 100 });
  const label = el("text", { class: "on-line", y: MARKS.top + MARKS.height + 16 });
  svg.append(line, handle, label);

  const set = (node, values) => Object.entries(values).forEach(([key, value]) => node.setAttribute(key, value));
  const placeLine = (at) => {
    const point = points[at];
    const px = x(point[SHARE]);
    acted.setAttribute("width", px - LEFT);
    set(line, { x1: px, x2: px });
    const text = at === 0 ? "act on nobody" : `act on everyone left of here: P ≥ ${fixed(point[CUT_OFF], 3)}`;
    set(handle, { x: px - 9, "aria-valuenow": Math.round(point[SHARE] * 100), "aria-valuetext": `${percent(point[SHARE])}, ${text}, worth ${money(point[PROFIT])}` });
    const after = px < right - 300;
    set(label, { x: after ? px + 14 : px - 14, "text-anchor": after ? "start" : "end" });
    label.textContent = text;
  };
  placeLine(data.at);
  return { x, place: placeLine };
}

function marks(columns, right) {
  const group = el("g");
  const step = (right - LEFT) / columns.length;
  const rise = MARKS.height / columns[0].length;
  const [events, others] = [[], []];
  columns.forEach((column, c) => {
    column.forEach((mark, r) => {
      const [cx, cy] = [LEFT + step * (c + 0.5), MARKS.top + rise * (r + 0.5)];
      if (mark) events.push(`M${cx - 3.1} ${cy - 3.1}h6.2v6.2h-6.2z`);
      else others.push(`M${cx - 2.5} ${cy}a2.5 2.5 0 1 0 5 0a2.5 2.5 0 1 0 -5 0`);
    });
  });
  group.append(el("path", { class: "mark-other", d: others.join("") }), el("path", { class: "mark-event", d: events.join("") }));
  return group;
}

const behind = (difference) => (difference < 0.005 ? "the best point" : `${money(difference)} under the best`);

// Rewrites the sentences for where the line is now.
function write(board, data) {
  const p = data.points[data.at];
  const scale = data.population / data.rows;
  const all = data.events * scale;
  const texts = {
    acted: fixed(p[ACTED], 0),
    share: percent(p[SHARE]),
    cut_off: fixed(p[CUT_OFF], 3),
    events: fixed(p[EVENTS], 0),
    missed: fixed(all - p[EVENTS], 0),
    profit: money(p[PROFIT]),
    low: money(p[LOW]),
    high: money(p[HIGH]),
    per_hundred: fixed(p[ACTED] > 0 ? (p[EVENTS] / p[ACTED]) * 100 : 0, 0),
    found_per_hundred: fixed((p[EVENTS] / all) * 100, 0),
    behind: behind(data.points[data.best][PROFIT] - p[PROFIT]),
    act_event: signed(data.act_event),
    act_other: signed(data.act_other),
  };
  if (data.break_even !== null) texts.break_even = fixed(data.break_even, 3);
  const root = board.closest("main");
  for (const node of root.querySelectorAll("[data-live]")) {
    const text = texts[node.dataset.live];
    if (text !== undefined && node.textContent !== text) node.textContent = text;
  }
}
