const SPACE = "http://www.w3.org/2000/svg";

// Makes an SVG element with attributes and children.
export function el(name, attributes = {}, ...children) {
  const node = document.createElementNS(SPACE, name);
  for (const [key, value] of Object.entries(attributes)) node.setAttribute(key, value);
  node.append(...children);
  return node;
}

// An empty drawing of that size, in place of what was drawn before.
export function drawing(place, width, height) {
  const svg = el("svg", { viewBox: `0 0 ${width} ${height}`, "aria-hidden": "true" });
  place.replaceChildren(svg);
  return svg;
}

// The width that a place for a drawing has, so that letters keep their size.
export const widthOf = (place) => Math.max(Math.round(place.clientWidth), 260);
