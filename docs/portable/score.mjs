// Computes probabilities from a formula that Pronoia has written, to show how its JSON form is read.
//
//   node score.mjs formula.json customers.jsonl > probabilities.txt
//
// Every line of customers.jsonl is an object of columns; dates are written 2026-05-31, and what is
// missing is null or left out. One probability per line comes out.
import { readFileSync } from "node:fs";

const DAY = 86_400_000;

const letters = (text) => [...text];

/** What functions give; none of their arguments is missing, unless they look out for that. */
const functions = {
  abs: Math.abs,
  floor: Math.floor,
  ceil: Math.ceil,
  sqrt: Math.sqrt,
  ln: (x) => (x > 0 ? Math.log(x) : null),
  exp: (x) => (x < 709 ? Math.exp(x) : null),
  length: (text) => letters(text).length,
  lower: (text) => text.toLowerCase(),
  upper: (text) => text.toUpperCase(),
  trim: (text) => text.replace(/^ +| +$/g, ""),
  concat: (a, b) => a + b,
};

const operators = {
  "+": (a, b) => a + b,
  "-": (a, b) => a - b,
  "*": (a, b) => a * b,
  "/": (a, b) => (b === 0 ? null : a / b),
  "=": (a, b) => a === b,
  "<>": (a, b) => a !== b,
  "<": (a, b) => a < b,
  "<=": (a, b) => a <= b,
  ">": (a, b) => a > b,
  ">=": (a, b) => a >= b,
};

/** Whether text has a form with % for any letters and _ for one. */
function isLike(text, form) {
  const escaped = (letter) => letter.replace(/[\\^$.*+?()[\]{}|]/g, "\\$&");
  let pattern = "";
  const left = letters(form);
  for (let at = 0; at < left.length; at += 1) {
    if (left[at] === "%") pattern += "[^]*";
    else if (left[at] === "_") pattern += "[^]";
    else pattern += escaped(left[at] === "\\" && at + 1 < left.length ? left[(at += 1)] : left[at]);
  }
  return new RegExp(`^${pattern}$`, "u").test(text);
}

/** A number that is one; anything else is missing. */
const finite = (x) => (typeof x === "number" && !Number.isFinite(x) ? null : x);

/** The value of an expression for the customer whose values are known; missing is null. */
function value(of, known) {
  if (of === null || typeof of !== "object") return of;
  if ("column" in of) return known.get(of.column) ?? null;
  if ("text" in of) return of.text;
  if ("case" in of) {
    const branch = of.case.find(([condition]) => value(condition, known) === true);
    return value(branch ? branch[1] : of.else, known);
  }
  if ("one_of" in of) {
    const found = value(of.one_of, known);
    return found === null ? null : of.values.some((constant) => value(constant, known) === found);
  }
  if ("like" in of) {
    const found = value(of.like, known);
    return found === null ? null : isLike(found, of.form);
  }
  if ("is_missing" in of) return value(of.is_missing, known) === null;
  if ("call" in of) {
    const given = of.of.map((argument) => value(argument, known));
    const there = given.filter((argument) => argument !== null);
    if (of.call === "coalesce") return there[0] ?? null;
    if (of.call === "nullif") return given[0] !== null && given[0] === given[1] ? null : given[0];
    if (of.call === "least") return there.length ? there.reduce((a, b) => (b < a ? b : a)) : null;
    if (of.call === "greatest") return there.length ? there.reduce((a, b) => (b > a ? b : a)) : null;
    return there.length < given.length ? null : finite(functions[of.call](...given));
  }
  const [[name, inner]] = Object.entries(of);
  if (name === "not" || name === "negative") {
    const found = value(inner, known);
    if (found === null) return null;
    return name === "not" ? !found : -found;
  }
  const [a, b] = inner.map((side) => value(side, known));
  // Both, or either, may be known although one of them is not.
  if (name === "and") return a === false || b === false ? false : a === null || b === null ? null : true;
  if (name === "or") return a === true || b === true ? true : a === null || b === null ? null : false;
  return a === null || b === null ? null : finite(operators[name](a, b));
}

function leaf(tree, known) {
  let at = tree;
  while (typeof at === "object") at = value(at.if, known) === true ? at.then : at.else;
  return at;
}

function defined(definition, known) {
  if ("days_since_1970" in definition) {
    const date = known.get(definition.days_since_1970) ?? null;
    return date === null ? null : Date.parse(`${date}T00:00:00Z`) / DAY;
  }
  if ("sum" in definition) {
    const { constant, terms, rectified } = definition.sum;
    const sum = terms.reduce((total, [name, weight]) => total + weight * known.get(name), constant);
    return rectified ? Math.max(0, sum) : sum;
  }
  if ("trees" in definition) {
    const { start, trees } = definition.trees;
    return trees.reduce((total, tree) => total + leaf(tree, known), start);
  }
  return value(definition.value, known);
}

/** The probability of the event for a customer, an object of columns. */
export function probability(formula, customer) {
  const known = new Map(formula.inputs.map(({ name }) => [name, customer[name] ?? null]));
  for (const definition of formula.definitions) known.set(definition.name, defined(definition, known));
  return known.get(formula.probability);
}

if (process.argv.length === 4) {
  const [formula, customers] = process.argv.slice(2).map((path) => readFileSync(path, "utf8"));
  const read = JSON.parse(formula);
  const lines = customers.split("\n").filter((line) => line.trim());
  for (const line of lines) console.log(probability(read, JSON.parse(line)));
}
