// Which keys are a field's and which the page's.

import assert from "node:assert/strict";
import test from "node:test";
import { studio } from "./page.js";

const { keeps } = await studio("keys");

test("Space is the page's everywhere but in text and on switches", () => {
  for (const kind of ["", "figure", "choice", "slider", "dialog"]) assert.equal(keeps(kind, " "), false, kind);
  assert.equal(keeps("text", " "), true);
  assert.equal(keeps("switch", " "), true);
});

test("a figure keeps what a number is made of, and lets letters through", () => {
  for (const key of ["1", ".", ",", "-", "ArrowUp", "Backspace", "Enter"]) assert.equal(keeps("figure", key), true, key);
  for (const key of ["l", "x", "[", "?"]) assert.equal(keeps("figure", key), false, key);
});

test("a slider keeps its arrows, a text field everything", () => {
  assert.equal(keeps("slider", "ArrowLeft"), true);
  assert.equal(keeps("slider", "m"), false);
  assert.equal(keeps("text", "x"), true);
});
