// Passages that both share, joined and put into words.

import assert from "node:assert/strict";
import test from "node:test";
import { studio } from "./page.js";

const { placesSaid, stretches } = await studio("own");
const passage = (bar, places, semitones = 0) => ({ bar, bars: 4, reference_bars: places, share: 1, semitones, part: "lead" });

test("passages that go on on both sides are one stretch", () => {
  assert.deepEqual(stretches([passage(17, [17, 41]), passage(21, [21, 45])]), [{ bar: 17, bars: 8, at: 17, semitones: 0 }]);
  assert.deepEqual(stretches([passage(1, [33]), passage(5, [37])]), [{ bar: 1, bars: 8, at: 33, semitones: 0 }]);
});

test("another key, a gap or another place begins another", () => {
  assert.equal(stretches([passage(1, [1]), passage(5, [5], 2)]).length, 2);
  assert.equal(stretches([passage(1, [1]), passage(9, [9])]).length, 2);
  assert.equal(stretches([passage(1, [33]), passage(5, [33])]).length, 2);
  assert.equal(stretches([passage(1, [])]).length, 0);
});

test("they are said with bars and interval, a few of many", () => {
  const facet = (passages) => ({ name: "Hook", share: 1, said: "", passages });
  assert.equal(placesSaid(facet([passage(5, [9], -3)])), "bars 5–8 as the reference’s bars 9–12, there 3 semitones lower");
  assert.equal(placesSaid(facet([passage(5, [9], 1)])), "bars 5–8 as the reference’s bars 9–12, there 1 semitone higher");
  assert.match(placesSaid(facet([1, 11, 21, 31, 41].map((bar) => passage(bar, [bar])))), /bars 21–24 as the reference’s bars 21–24 and 2 more$/);
});
