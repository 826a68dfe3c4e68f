import assert from "node:assert/strict";
import { test } from "node:test";
import { nearerLine, nearest, placed, worthAt } from "../src/curve.js";

const points = [0, 0.1, 0.2, 0.5, 1].map((share, i) => [share, 1 - share, i * 10, i, 100 * i, 0, 0, 0, 7 * i]);

test("the nearest point of the curve is found by its share", () => {
  for (let share = -0.2; share <= 1.2; share += 0.01) {
    const apart = (i) => Math.abs(points[i][0] - share);
    const found = nearest(points, share);
    assert.ok(points.every((_, i) => apart(found) <= apart(i) + 1e-12), `${share}: ${found}`);
  }
});

test("of two cut-offs the nearer one moves", () => {
  assert.equal(nearerLine({ points, at: 1, refer: null }, 0.9), "act");
  assert.equal(nearerLine({ points, at: 1, refer: 3 }, 0.45), "refer");
  assert.equal(nearerLine({ points, at: 1, refer: 3 }, 0.15), "act");
});

test("two cut-offs are worth what acting and referring are", () => {
  assert.equal(worthAt({ points, at: 2, refer: null }), 200);
  assert.equal(worthAt({ points, at: 2, refer: 4 }), 200 + 7 * 4 - 7 * 2);
});

test("a thousand marks stand once each within their box, in their columns", () => {
  const columns = Array.from({ length: 50 }, (_, c) => Array.from({ length: 20 }, (_, r) => (c * 20 + r) % 7 === 0));
  const box = { left: 52, right: 1052, top: 4, height: 196 };
  const { events, others } = placed(columns, box);
  assert.equal(events.length, columns.flat().filter(Boolean).length);
  assert.equal(events.length + others.length, 1000);
  const all = [...events, ...others];
  assert.equal(new Set(all.map(String)).size, 1000);
  assert.ok(all.every(([x, y]) => x > box.left && x < box.right && y > box.top && y < box.top + box.height));
  assert.deepEqual(events[0], [52 + 10, 4 + 4.9]);
});
