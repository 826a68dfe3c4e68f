import assert from "node:assert/strict";
import { test } from "node:test";
import { cell, delimited } from "../src/csv.js";

test("what a spreadsheet would compute is kept from it", () => {
  for (const text of ["=1+2", "+cmd|' /C calc'!A0", "-2+3", "@SUM(A1)", "\t=1", "＝1"]) {
    assert.ok(cell(text).replace(/^"/, "").startsWith("'"), text);
  }
  for (const text of ["", "-3.5", "+1e6", "a=b", "Öl", "'=1"]) assert.equal(cell(text), text);
  assert.equal(cell(-3.5), "-3.5");
});

test("fields are quoted where they must be, and lines end as they should", () => {
  assert.equal(delimited([["a,b", 'say "no"'], ["two\nlines", 1]]), '"a,b","say ""no"""\r\n"two\nlines",1');
});
