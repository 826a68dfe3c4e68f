// Progress of background work, told by the server as it happens.
import { drawGrowing } from "./charts.js";

let leaving = false;

// A browser keeps six connections to one server; a page must not use them all up.
const MOST_FOLLOWED = 4;

export function followJobs() {
  addEventListener("beforeunload", () => (leaving = true));
  const lines = new Map();
  for (const line of document.querySelectorAll("[data-job]")) lines.set(line.dataset.job, [...(lines.get(line.dataset.job) ?? []), line]);
  // Those at the foot of the page are in the works now, or next.
  const at = (its) => its.findIndex((line) => line.hasAttribute("data-reloads"));
  const inOrder = [...lines].sort((a, b) => at(b[1]) - at(a[1]));
  for (const [job, its] of inOrder.slice(0, MOST_FOLLOWED)) follow(job, its);
}

// One job, told on every line of the page that is about it.
function follow(id, lines) {
  for (const line of lines) canBeStopped(line);
  const source = new EventSource(`/jobs/${id}/events`);
  source.onmessage = (message) => {
    const job = JSON.parse(message.data);
    for (const line of lines) show(line, job);
    if (job.state !== "queued" && job.state !== "running") {
      source.close();
      const last = lines.find((line) => line.hasAttribute("data-reloads"));
      if (last) settle(last);
    }
  };
}

// Asking for a stop leaves the page as it is; the line says when it has stopped.
function canBeStopped(line) {
  line.querySelector("form")?.addEventListener("submit", (event) => {
    event.preventDefault();
    const form = event.target;
    fetch(form.action, { method: "POST", body: new URLSearchParams(new FormData(form)), headers: { "x-requested-by-script": "yes" } });
    line.querySelector("[data-left]").textContent = "stopping";
  });
}

function show(line, job) {
  line.querySelector("progress").value = job.share;
  line.querySelector("[data-stage]").textContent = job.stage;
  line.querySelector("[data-left]").textContent = job.left === null ? "" : left(job.left);
  const growing = line.querySelector("[data-curve]");
  if (growing && job.curve.length > 1) grow(growing, job.curve);
}

// The learning curve of what is being fitted, as far as it has come.
function grow(place, curve) {
  place.hidden = false;
  const side = (at) => curve.map((point) => [point[0], point[at]]);
  const lines = [{ name: "rows fitted to", points: side(1) }, { name: "early-stopping rows", points: side(2) }];
  drawGrowing(place.querySelector(".plot"), { x: "steps", y: "log loss", lines });
}

// What is typed must not be lost: where a field was changed, the line says that
// the work is done and leaves the page as it is.
function settle(line) {
  // Somebody is on the way to another page; showing this one anew would call them back.
  if (leaving) return;
  const changed = [...document.querySelectorAll("main input, main select, main textarea")].some((field) => {
    if (field.tagName === "SELECT") return [...field.options].some((o) => o.selected !== o.defaultSelected && o.defaultSelected);
    return field.value !== field.defaultValue || (field.checked ?? false) !== (field.defaultChecked ?? false);
  });
  if (changed) line.querySelector("[data-stage]").textContent = "Done; reload the page to see it";
  else {
    rememberFocus();
    location.reload();
  }
}

const FOCUS = "pronoia-focus";

// What tells the parts of a page apart that can have the focus: where they send, or lead, and what they are called.
function called(element) {
  return [location.pathname, element.tagName, element.form?.getAttribute("action"), element.getAttribute("href"), element.name, element.textContent.trim()].join(" ");
}

// Whoever works with the keyboard is not sent back to the head of a page that shows itself anew.
function rememberFocus() {
  const focused = document.activeElement;
  if (!focused || focused === document.body) return;
  const alike = [...document.querySelectorAll(focused.tagName)].filter((other) => called(other) === called(focused));
  sessionStorage.setItem(FOCUS, JSON.stringify([focused.tagName, called(focused), alike.indexOf(focused)]));
}

export function restoreFocus() {
  const kept = sessionStorage.getItem(FOCUS);
  if (!kept) return;
  sessionStorage.removeItem(FOCUS);
  const [tag, name, at] = JSON.parse(kept);
  const alike = [...document.querySelectorAll(tag)].filter((other) => called(other) === name);
  alike[at]?.focus({ preventScroll: true });
}

function left(seconds) {
  if (seconds < 1.5) return "about a second left";
  if (seconds < 90) return `about ${Math.round(seconds)} seconds left`;
  return `about ${Math.round(seconds / 60)} minutes left`;
}
