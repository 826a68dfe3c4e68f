// What every chart can do besides being looked at: be read as a table, be taken
// away as CSV or as a drawing.
import { delimited } from "./csv.js";
import { short } from "./figures.js";

const DRAWN = ["fill", "fill-opacity", "stroke", "stroke-width", "stroke-dasharray", "stroke-opacity", "opacity", "font", "text-anchor"];

// Adds the switch and the downloads below a chart. `rows` begins with the names of the columns.
export function addTools(figure, name, rows) {
  const line = document.createElement("p");
  line.className = "chart-tools";
  const table = tableOf(name, rows);
  table.hidden = true;
  const asTable = button("read as table", () => {
    table.hidden = !table.hidden;
    asTable.setAttribute("aria-expanded", String(!table.hidden));
    asTable.textContent = table.hidden ? "read as table" : "hide the table";
  });
  asTable.setAttribute("aria-expanded", "false");
  line.append(asTable, " · ", ...downloads(figure, name, () => rows));
  figure.append(line, table);
}

// The two downloads by themselves, for a chart that has its own table.
export function downloads(figure, name, rows) {
  const csv = button("CSV", () => save(`${name}.csv`, "text/csv", delimited(rows())));
  const svg = button("SVG", () => save(`${name}.svg`, "image/svg+xml", standalone(figure.querySelector("svg"))));
  csv.setAttribute("aria-label", `Download ${name} as CSV`);
  svg.setAttribute("aria-label", `Download ${name} as SVG`);
  return [csv, " · ", svg];
}

function button(text, act) {
  const node = document.createElement("button");
  node.type = "button";
  node.className = "link";
  node.textContent = text;
  node.addEventListener("click", act);
  return node;
}

function tableOf(name, [names, ...rows]) {
  const table = document.createElement("table");
  table.createCaption().textContent = name;
  const head = table.createTHead().insertRow();
  for (const text of names) {
    const th = document.createElement("th");
    th.scope = "col";
    th.className = "figure";
    th.textContent = text;
    head.append(th);
  }
  const body = table.createTBody();
  // A table is for reading; a long curve is shown at every so many points.
  const step = Math.max(1, Math.ceil(rows.length / 40));
  rows.forEach((row, i) => {
    if (i % step !== 0 && i !== rows.length - 1) return;
    const tr = body.insertRow();
    for (const value of row) {
      const td = tr.insertCell();
      td.className = "figure";
      td.textContent = typeof value === "number" ? (Math.abs(value) < 1 ? String(Number(value.toFixed(4))) : short(value)) : value;
    }
  });
  return table;
}

export function save(name, kind, text) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: kind }));
  link.download = name.replaceAll(/[\\/:*?"<>|]/g, "-");
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
}

// A drawing that looks the same without our style sheet.
export function standalone(svg) {
  const copy = svg.cloneNode(true);
  const [from, to] = [[svg, ...svg.querySelectorAll("*")], [copy, ...copy.querySelectorAll("*")]];
  from.forEach((node, i) => {
    const style = getComputedStyle(node);
    for (const name of DRAWN) if (style.getPropertyValue(name)) to[i].style.setProperty(name, style.getPropertyValue(name));
    to[i].removeAttribute("class");
  });
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  return new XMLSerializer().serializeToString(copy);
}
