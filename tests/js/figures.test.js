// Figures as they are typed: with their unit, refused with a sentence, never another value in silence.

import assert from "node:assert/strict";
import test from "node:test";
import { studio } from "./page.js";

const { readFigure, shown } = await studio("fields");
const bars = { title: "Length", unit: "bars", low: 1, high: 128, step: 1 }, hertz = { title: "Cutoff", unit: "Hz", low: 20, high: 20000 };

test("a number is taken as it is, with or without its unit", () => {
  assert.deepEqual(readFigure(bars, "16"), { value: 16 });
  assert.deepEqual(readFigure(bars, " 16 bars"), { value: 16 });
  assert.deepEqual(readFigure(hertz, "1.2k"), { value: 1200 });
  assert.deepEqual(readFigure(hertz, "440,5"), { value: 440.5 });
  assert.deepEqual(readFigure({ title: "Level", unit: "dB", low: -60, high: 12 }, "−6.5 dB"), { value: -6.5 });
});

for (const [typed, said] of [["abc", "no number"], ["", "no number"], ["3.5 bars", "whole number"], ["0", "doesn’t fit"], ["129", "doesn’t fit"], ["1e9", "no number"]]) {
  test(`“${typed}” is no length and is told so`, () => {
    const { value, sentence } = readFigure(bars, typed);
    assert.equal(value, undefined);
    assert.match(sentence, new RegExp(said));
    assert.match(sentence, /1 to 128 bars/);
  });
}

test("figures are shown short, with a true minus sign", () => {
  assert.equal(shown(-0.123456), "−0.123");
  assert.equal(shown(12345.6), "12346");
});
