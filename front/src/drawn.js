// What a page draws with boxes and letters, as one drawing to be taken away.
import { save, standalone } from "./tools.js";
import { el } from "./svg.js";

// Adds a button to every place that holds such a drawing.
export function canBeTaken(place) {
  const button = document.createElement("button");
  button.type = "button";
  button.className = "link take-drawing";
  button.textContent = "SVG";
  button.setAttribute("aria-label", `Download ${place.dataset.drawing} as SVG`);
  button.addEventListener("click", () => {
    const svg = drawingOf(place);
    document.body.append(svg);
    save(`${place.dataset.drawing}.svg`, "image/svg+xml", standalone(svg));
    svg.remove();
  });
  place.append(button);
}

function drawingOf(place) {
  const whole = place.getBoundingClientRect();
  const svg = el("svg", { viewBox: `0 0 ${whole.width} ${whole.height}`, width: whole.width, height: whole.height });
  const box = (node) => {
    const at = node.getBoundingClientRect();
    return { x: at.x - whole.x, y: at.y - whole.y, width: at.width, height: at.height };
  };
  const paper = getComputedStyle(document.documentElement).backgroundColor;
  svg.append(inkedWith({ fill: paper }, el("rect", { width: whole.width, height: whole.height })));
  const walk = (node) => {
    if (node instanceof SVGSVGElement) {
      const copy = node.cloneNode(true);
      inked(node, copy);
      for (const [name, value] of Object.entries(box(node))) copy.setAttribute(name, value);
      svg.append(copy);
      return;
    }
    const style = getComputedStyle(node);
    if (style.visibility === "hidden" || style.display === "none" || node.matches(".sr, .take-drawing")) return;
    if (style.backgroundColor !== "rgba(0, 0, 0, 0)") svg.append(inkedWith({ fill: style.backgroundColor }, el("rect", box(node))));
    for (const child of node.childNodes) {
      if (child instanceof Text) letters(child, style);
      else if (child instanceof Element) walk(child);
    }
  };
  // Each line of a text stands where the page has put it.
  const letters = (text, style) => {
    const range = document.createRange();
    let line = null;
    for (const [from, word] of [...text.data.matchAll(/\S+/g)].map((m) => [m.index, m[0]])) {
      range.setStart(text, from);
      range.setEnd(text, from + word.length);
      const at = range.getBoundingClientRect();
      if (at.width === 0) continue;
      if (line && Math.abs(line.top - at.top) < 2) line.words += ` ${word}`;
      else {
        line = { top: at.top, bottom: at.bottom, x: at.x, words: word };
        lines.push([line, style]);
      }
    }
  };
  const lines = [];
  walk(place);
  for (const [line, style] of lines) {
    const baseline = line.bottom - whole.y - (line.bottom - line.top) * 0.24;
    const ink = { font: style.font, fill: style.color, "font-variant-numeric": style.fontVariantNumeric };
    svg.append(inkedWith(ink, el("text", { x: line.x - whole.x, y: baseline }, line.words)));
  }
  return svg;
}

// Gives a node its ink. The policy of contents lets a style be set, and a style that is written as an attribute not.
function inkedWith(ink, node) {
  for (const [name, value] of Object.entries(ink)) node.style.setProperty(name, value);
  return node;
}

// Writes the ink of a drawing into its copy, which stands outside its place.
function inked(from, to) {
  const nodes = [...to.querySelectorAll("*")];
  const names = ["fill", "stroke", "stroke-width", "stroke-dasharray", "font", "text-anchor"];
  [...from.querySelectorAll("*")].forEach((node, i) => {
    const style = getComputedStyle(node);
    inkedWith(Object.fromEntries(names.map((name) => [name, style.getPropertyValue(name)])), nodes[i]);
  });
}
