// The small picture of a draft: its notes from left to right and from low to high.

import assert from "node:assert/strict";
import test from "node:test";
import { studio } from "./page.js";

const { sketched } = await studio("otherdrafts");
const BOX = { width: 160, top: 10, height: 32 }, BAR = 3840;

test("eight bars fill the box, and the highest note is at its top", () => {
  const [low, high] = sketched([[0, BAR, 48], [4 * BAR, BAR, 72]], BOX);
  assert.deepEqual([low.x, high.x], [0, 80]);
  assert.equal(low.width, 19.5);
  assert.equal(high.y, 10);
  assert.equal(low.y + low.height, 42);
});

test("a line that stays within an octave isn\u2019t blown up, and what rings on ends with the box", () => {
  const [first, second] = sketched([[0, 240, 60], [7 * BAR, 9 * BAR, 61]], BOX);
  assert.ok(first.y - second.y < 4);
  assert.equal(second.x + second.width, 159.5);
  assert.deepEqual(sketched([], BOX), []);
});
