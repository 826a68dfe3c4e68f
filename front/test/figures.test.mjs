import assert from "node:assert/strict";
import { test } from "node:test";
import { fixed, marks, money, percent, short } from "../src/figures.js";

const plain = (text) => text.replaceAll("\u202f", " ");

test("figures have thin spaces, a true minus and no minus before nothing", () => {
  assert.equal(plain(fixed(1234567.891, 2)), "1 234 567.89");
  assert.equal(plain(fixed(-1234.5, 1)), "−1 234.5");
  assert.equal(fixed(-0.0004, 2), "0.00");
  assert.equal(plain(fixed(999.5, 0)), "1 000");
  for (const x of [NaN, Infinity, -Infinity]) assert.equal(fixed(x, 1), "–");
});

test("money has pence below a hundred, shares are percentages", () => {
  assert.equal(money(99.994), "99.99");
  assert.equal(plain(money(-12345.6)), "−12 346");
  assert.equal(plain(percent(0.0625)), "6.3 %");
});

test("marks of an axis have as many decimals as tell neighbours apart", () => {
  assert.deepEqual([0, 0.25, 0.5].map(marks([0, 0.25, 0.5])), ["0.0", "0.3", "0.5"]);
  assert.deepEqual([0, 0.05].map(marks([0, 0.05, 0.1])), ["0.00", "0.05"]);
  assert.deepEqual([0, 500].map(marks([0, 500])), ["0", "500"]);
  assert.equal(marks([7])(7), "7");
});

test("short figures keep what matters of their size", () => {
  assert.deepEqual([1234.5, 12.34, 1.234, 7].map(short).map(plain), ["1 235", "12.3", "1.23", "7"]);
});
