import { scaleLinear } from "d3-scale";
import { area, line as path } from "d3-shape";
import { ACTED, EVENTS, HIGH, KEY, LOW, PROFIT, REFERRING, SHARE, nearerLine, nearest, placed, worthAt } from "./curve.js";
import { fixed, money, percent } from "./figures.js";
import { drawing, el, widthOf } from "./svg.js";
import { downloads } from "./tools.js";

const LEFT = 52;
const MARKS = { top: 4, height: 196 };
const CURVE = { top: 232, height: 172 };
const FOOT = 446;

// The thousand and the profit curve below it share one axis: the share of
// customers acted on. Moving the line moves everything that depends on it.
export function decide(board) {
  const place = board.querySelector("[data-thousand]");
  const form = board.querySelector("[data-amounts]");
  const state = { data: JSON.parse(board.dataset.decide), typed: false };
  let view = draw(place, state.data);

  // Which of the two lines the keys move: the one that was touched last.
  let touched = "act";
  const move = (at, which = touched, byHand = true) => {
    const { data } = state;
    if (which === "refer" && data.refer !== null) data.refer = Math.min(Math.max(at, data.at), data.points.length - 1);
    else {
      data.at = Math.min(Math.max(at, 0), data.limit);
      if (data.refer !== null) data.refer = Math.max(data.refer, data.at);
    }
    view.place(data);
    if (!byHand) return write(board, data);
    // The band of two lines together is worked out where the resamples are.
    data.here = null;
    write(board, data);
    form.querySelector("[data-line]").value = data.points[data.at][KEY];
    form.querySelector("[data-line-as]").value = data.by;
    if (data.refer !== null) form.querySelector("[data-refer]").value = data.points[data.refer][KEY];
    unsaved(board);
    ask();
  };

  // What other rules and each assumption mean is worked out where the amounts are.
  let asking = 0;
  const ask = () => {
    clearTimeout(asking);
    asking = setTimeout(async () => {
      const query = typed(form);
      const [parts, curve] = await Promise.all([
        fetch(`${board.dataset.partsFrom}?${query}`),
        state.data.refer === null ? null : fetch(`${board.dataset.curve}?${query}`),
      ]);
      if (parts.ok) {
        const anew = new DOMParser().parseFromString(await parts.text(), "text/html");
        for (const part of ["[data-prices]", "[data-rules]", "[data-sensitivity]"]) document.querySelector(part).replaceWith(anew.querySelector(part));
      }
      if (curve?.ok && state.data.here === null) {
        state.data.here = (await curve.json()).here;
        write(board, state.data);
      }
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
    const share = view.x.invert(event.clientX - place.getBoundingClientRect().left);
    touched = nearerLine(state.data, share);
    drag(event);
  });
  place.addEventListener("pointermove", (event) => {
    if (place.hasPointerCapture(event.pointerId)) drag(event);
  });

  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey || event.target.closest("input, select, textarea, dialog")) return;
    const onHandle = event.target.closest?.(".handle");
    if (onHandle) touched = onHandle.dataset.moves;
    const there = touched === "refer" && state.data.refer !== null ? state.data.refer : state.data.at;
    const small = { ",": -1, ".": 1, "<": -25, ">": 25, ";": -25, ":": 25 }[event.key];
    const arrow = onHandle && { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1, PageDown: -25, PageUp: 25 }[event.key];
    const step = small ?? arrow;
    if (onHandle && (event.key === "Home" || event.key === "End")) {
      event.preventDefault();
      return move(event.key === "Home" ? 0 : state.data.points.length - 1);
    }
    if (!step) return;
    event.preventDefault();
    move(there + step * (event.shiftKey && Math.abs(step) === 1 ? 25 : 1));
  });

  const reprice = async () => {
    const answer = await fetch(`${board.dataset.curve}?${typed(form)}`, { headers: { Accept: "application/json" } });
    const problem = form.querySelector("[data-problem]");
    if (!answer.ok) {
      const page = new DOMParser().parseFromString(await answer.text(), "text/html");
      problem.textContent = page.querySelector(".lead")?.textContent ?? "That could not be computed; check the amounts.";
      problem.hidden = false;
      return;
    }
    problem.hidden = true;
    state.data = await answer.json();
    ask();
    view = draw(place, state.data);
    write(board, state.data);
    unsaved(board);
  };
  form.addEventListener("input", (event) => {
    // Another order means another page: its line is counted in something else.
    if (event.target.matches("[data-by]")) {
      const query = typed(form);
      ["line", "line_as", "refer_from"].forEach((name) => query.delete(name));
      location.assign(`${location.pathname}?${query}`);
      return;
    }
    form.querySelector(".examples")?.remove();
    clearTimeout(waiting);
    waiting = setTimeout(reprice, 250);
  });
  // Fields outside the form that belong to it, such as those of the map.
  document.addEventListener("change", (event) => {
    if (event.target.form === form && !form.contains(event.target)) ask();
  });
  addEventListener("resize", () => {
    view = draw(place, state.data);
  });
  const names = ["share", "at least", "acted on", "events", "worth", "from", "to", "spent", "profit of referring"];
  const tools = document.createElement("p");
  tools.className = "chart-tools";
  tools.append("Download: ", ...downloads(board, "Expected profit by share acted on", () => [names, ...state.data.points]));
  board.querySelector("[data-table-of-curve]").after(tools);
  write(board, state.data);
}

function unsaved(board) {
  const keep = board.closest("main").querySelector("[data-keep]");
  keep.disabled = false;
  keep.textContent = "Keep this policy";
}

// The amounts in the form; what is empty is not typed.
function typed(form) {
  const fields = new URLSearchParams(new FormData(form));
  fields.delete("csrf");
  for (const [name, value] of [...fields]) if (value.trim() === "" && name !== "population") fields.delete(name);
  return fields;
}

// Draws everything that does not move, and gives a function that moves the rest.
function draw(place, data) {
  const width = widthOf(place);
  const right = width - 10;
  const svg = drawing(place, width, FOOT);
  svg.removeAttribute("aria-hidden");
  const x = scaleLinear([0, 1], [LEFT, right]);
  const acted = el("rect", { class: "acted", x: LEFT, y: MARKS.top, width: 0, height: MARKS.height });
  const looked = el("rect", { class: "looked", x: LEFT, y: MARKS.top, width: 0, height: MARKS.height });
  svg.append(hatch(), acted, looked, marks(data.marks, right));

  const { points } = data;
  const worths = data.refer === null ? points.flatMap((p) => [p[LOW], p[HIGH]]) : [data.best_worth, worthAt(data), data.here?.[2] ?? data.best_worth];
  // What is lost by acting on nearly everybody would flatten the part that matters.
  const none = points[0][PROFIT];
  const top = Math.max(...worths, none);
  const lowest = Math.min(...worths, none, data.refer === null ? none : points.at(-1)[PROFIT]);
  const bottom = Math.max(lowest, none - (top - none) || lowest);
  const y = scaleLinear([bottom, top], [CURVE.top + CURVE.height, CURVE.top]).nice();
  const clip = el("clipPath", { id: "curve-clip" }, el("rect", { x: LEFT, y: CURVE.top - 14, width: right - LEFT, height: CURVE.height + 14 }));
  const curves = el("g", { "clip-path": "url(#curve-clip)" });
  if (data.refer === null) curves.append(el("path", { class: "band", d: area((p) => x(p[SHARE]), (p) => y(p[LOW]), (p) => y(p[HIGH]))(points) }));
  for (const v of y.ticks(5)) {
    svg.append(el("line", { class: v === 0 ? "axis" : "grid", x1: LEFT, x2: right, y1: y(v), y2: y(v) }));
    svg.append(el("text", { x: LEFT - 6, y: y(v) + 4, "text-anchor": "end" }, fixed(v, 0)));
  }
  const all = points.at(-1)[PROFIT];
  curves.append(el("line", { class: "by-lot", x1: x(0), x2: x(1), y1: y(none), y2: y(all) }));
  // With two lines, what each of them would bring elsewhere while the other stays.
  const [profit, beyond] = [el("path", { class: "profit" }), el("path", { class: "profit elsewhere" })];
  curves.append(profit, beyond);
  const drawCurves = ({ at, refer }) => {
    const curve = (worth, part) => path((p) => x(p[SHARE]), (p) => y(worth(p)))(part);
    if (refer === null) return profit.setAttribute("d", curve((p) => p[PROFIT], points));
    const [a, r] = [points[at], points[refer]];
    profit.setAttribute("d", curve((p) => p[PROFIT] + r[REFERRING] - p[REFERRING], points.slice(0, refer + 1)));
    beyond.setAttribute("d", curve((p) => a[PROFIT] + p[REFERRING] - a[REFERRING], points.slice(at)));
  };
  svg.append(clip, curves);
  // Where the straight line is about to leave the picture.
  const floor = y.domain()[0];
  const lot = all < floor ? ((floor - none) / (all - none)) * 0.85 : 0.85;
  svg.append(el("text", { class: "reference", x: x(lot) + 6, y: y(none + lot * (all - none)) - 5 }, "as many at random"));
  if (data.today && y(data.today[1]) < CURVE.top + CURVE.height) {
    const [tx, ty] = [x(data.today[0]), y(data.today[1])];
    svg.append(el("path", { class: "today", d: `M${tx - 5} ${ty}L${tx} ${ty - 5}L${tx + 5} ${ty}L${tx} ${ty + 5}Z` }));
    svg.append(el("text", { class: "reference", x: tx + 9, y: ty + 4 }, "today’s rule"));
  }
  if (data.limit < points.length - 1) {
    const from = x(points[data.limit][SHARE]);
    svg.append(el("rect", { class: "beyond", x: from, y: MARKS.top, width: right - from, height: CURVE.top + CURVE.height - MARKS.top }));
    svg.append(el("text", { class: "reference", x: right - 4, y: CURVE.top + 6, "text-anchor": "end" }, "beyond the limits"));
  }
  const axis = CURVE.top + CURVE.height;
  svg.append(el("line", { class: "axis", x1: LEFT, x2: right, y1: axis, y2: axis }));
  for (const v of x.ticks(10)) svg.append(el("text", { x: x(v), y: axis + 16, "text-anchor": v === 1 ? "end" : "middle", dx: v === 1 ? 8 : 0 }, v === 1 ? "100 %" : String(Math.round(v * 100))));
  svg.append(el("text", { x: right, y: axis + 34, "text-anchor": "end" }, "share of customers acted on"));
  svg.append(el("text", { x: LEFT, y: axis + 34 }, `expected profit, ${data.whom}`));

  const best = points[data.best];
  if (data.refer === null) {
    const [from, to] = [points[data.from][SHARE], points[data.to][SHARE]];
    svg.append(el("rect", { class: "nearly", x: x(from), y: axis - 7, width: Math.max(x(to) - x(from), 2), height: 6 }));
    const after = x(to) + 6 < right - 190;
    svg.append(el("text", { class: "on-money", x: after ? x(to) + 6 : x(from) - 6, y: axis - 2, "text-anchor": after ? "start" : "end" }, `nearly as good: ${fixed(from * 100, 0)} – ${fixed(to * 100, 0)} %`));
  }
  svg.append(el("circle", { class: "best", cx: x(best[SHARE]), cy: y(data.best_worth), r: 5 }));
  svg.append(el("text", { class: "on-money", x: x(best[SHARE]) + 9, y: y(data.best_worth) - 8 }, `best ${money(data.best_worth)} at ${fixed(best[SHARE] * 100, 0)} %`));

  const set = (node, values) => Object.entries(values).forEach(([key, value]) => node.setAttribute(key, value));
  const moving = (moves, name) => {
    const line = el("line", { class: `the-line ${moves}`, y1: MARKS.top, y2: axis });
    const handle = el("rect", { class: "handle", "data-moves": moves, y: MARKS.top + MARKS.height + 4, width: 18, height: 14, tabindex: 0, role: "slider", "aria-label": name, "aria-valuemin": 0, "aria-valuemax": 100 });
    const label = el("text", { class: "on-line", y: MARKS.top + MARKS.height + 16 });
    svg.append(line, handle, label);
    return (at, text, worth, room) => {
      const px = x(points[at][SHARE]);
      set(line, { x1: px, x2: px });
      set(handle, { x: px - 9, "aria-valuenow": Math.round(points[at][SHARE] * 100), "aria-valuetext": `${percent(points[at][SHARE])}, ${text}, worth ${money(worth)}` });
      const after = room === "after" || (room !== "before" && px < right - 300);
      set(label, { x: after ? px + 14 : px - 14, "text-anchor": after ? "start" : "end" });
      label.textContent = text;
    };
  };
  const placeRefer = data.refer === null ? null : moving("refer", "Share of customers acted on or referred");
  const placeAct = moving("act", "Share of customers acted on");
  const placeLines = (state) => {
    const { at, refer } = state;
    drawCurves(state);
    const px = x(points[at][SHARE]);
    acted.setAttribute("width", px - LEFT);
    const key = data.by === "probability" ? "P" : data.by === "gain" ? "gain" : "incremental profit per cost";
    const text = at === 0 ? "act on nobody" : `act on everyone left of here: ${key} ≥ ${keyText(data, points[at][KEY])}`;
    if (refer === null) return placeAct(at, text, worthAt(state));
    const to = x(points[refer][SHARE]);
    set(looked, { x: px, width: to - px });
    const [acts, looks] = [`${data.act}: P ≥ ${keyText(data, points[at][KEY])}`, `refer: P ≥ ${keyText(data, points[refer][KEY])}`];
    const narrow = to - px < 190;
    // Between two lines that stand close at the left there is room for neither.
    const together = narrow && px < LEFT + 150;
    placeAct(at, together ? "" : acts, worthAt(state), narrow ? "before" : "after");
    placeRefer(refer, together ? `${acts}, ${looks}` : looks, worthAt(state), to > right - 160 && !narrow ? "before" : "after");
  };
  placeLines(data);
  return { x, place: placeLines };
}

const keyText = (data, key) => fixed(key, data.by === "probability" ? 3 : 2);

// What lies beyond a limit is hatched.
function hatch() {
  const pattern = el("pattern", { id: "hatch", width: 7, height: 7, patternUnits: "userSpaceOnUse", patternTransform: "rotate(45)" }, el("line", { class: "hatching", x1: 0, x2: 0, y1: 0, y2: 7 }));
  return el("defs", {}, pattern);
}

function marks(columns, right) {
  const { events, others } = placed(columns, { left: LEFT, right, top: MARKS.top, height: MARKS.height });
  const square = ([x, y]) => `M${x - 3.1} ${y - 3.1}h6.2v6.2h-6.2z`;
  const ring = ([x, y]) => `M${x - 2.5} ${y}a2.5 2.5 0 1 0 5 0a2.5 2.5 0 1 0 -5 0`;
  return el("g", {}, el("path", { class: "mark-other", d: others.map(ring).join("") }), el("path", { class: "mark-event", d: events.map(square).join("") }));
}

const behind = (difference) => (difference < 0.005 ? "the best point" : `${money(difference)} under the best`);

// Rewrites the sentences for where the line is now.
function write(board, data) {
  const p = data.points[data.at];
  const worth = worthAt(data);
  const [, low, high] = data.here ?? [worth, p[LOW], p[HIGH]];
  const texts = {
    acted: fixed(p[ACTED], 0),
    share: percent(p[SHARE]),
    key: keyText(data, p[KEY]),
    events: fixed(p[EVENTS], 0),
    missed: fixed(data.events - p[EVENTS], 0),
    profit: money(worth),
    over_none: money(worth - data.points[0][PROFIT]),
    low: money(low),
    high: money(high),
    per_hundred: fixed(p[ACTED] > 0 ? (p[EVENTS] / p[ACTED]) * 100 : 0, 0),
    found_per_hundred: fixed((p[EVENTS] / data.events) * 100, 0),
    behind: behind(data.best_worth - worth),
    break_even: data.break_even,
  };
  if (data.refer !== null) {
    const to = data.points[data.refer];
    texts.referred = fixed(to[ACTED] - p[ACTED], 0);
    texts.refer_key = keyText(data, to[KEY]);
    // Until the band of both lines is there.
    if (!data.here) [texts.low, texts.high] = ["…", "…"];
  }
  const root = board.closest("main");
  for (const node of root.querySelectorAll("[data-live]")) {
    const text = texts[node.dataset.live];
    if (text !== undefined && node.textContent !== text) node.textContent = text;
  }
  const [formulas, worths] = ["[data-formula]", "[data-worth]"].map((part) => board.querySelectorAll(part));
  for (const [word, mean] of data.means) {
    const field = board.querySelector(`[name="${word}"]`)?.closest("label");
    // The fields of an offer that was only just named come with the page.
    if (!field) continue;
    const there = board.querySelector(`[data-mean="${word}"]`);
    if (mean === null) there?.remove();
    else if (there) there.textContent = `on average ${mean}`;
    else {
      const line = document.createElement("p");
      line.className = "mean";
      line.dataset.mean = word;
      line.textContent = `on average ${mean}`;
      field.after(line);
    }
  }
  // With another number of offers the whole list is another, and comes with what stands below.
  if (data.outcomes.length === formulas.length) {
    data.outcomes.forEach(([formula, amount], i) => {
      formulas[i].textContent = formula;
      worths[i].textContent = amount;
    });
  }
  for (const node of board.querySelectorAll("[data-given]")) {
    const customers = data.given[data.at]?.[node.dataset.given];
    if (customers !== undefined) node.textContent = fixed(customers, 0);
  }
}
