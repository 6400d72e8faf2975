// The mix without a browser: gains of faders and pans, equalisers as sections, curves of ducking.

import assert from "node:assert/strict";
import test from "node:test";
import { studio } from "./page.js";

const { biquads, coefficients, responseDb, sectionsOf, stripResponseDb } = await studio("biquads");
const { makeShape, readShape } = await studio("ducking");
const { passed, sides } = await studio("preview");
const { loudestTwo } = await studio("analyser");

const strip = (params = {}, choices = {}, cuts = [0, 0]) => ({ cuts, effects: [{ kind: "eq", on: true, params, choices, fields: [] }] });
const bell = (db, hz = 1000) => strip({ band1_hz: hz, band1_db: db, band1_q: 1 }, { band1_kind: "bell" });
const near = (a, b, by = 1e-6) => assert.ok(Math.abs(a - b) <= by, `${a} is not ${b}`);

test("a fader is a factor, a mute nothing, a pan of constant power", () => {
  const at = (gain_db, pan, mute = false) => sides({ figures: { gain_db, pan }, mute });
  assert.deepEqual(at(0, 0).map((g) => Number(g.toFixed(9))), [1, 1]);
  near(at(6.0205999, 0)[0], 2, 1e-6);
  assert.deepEqual(at(0, 0, true), [0, 0]);
  for (const pan of [-1, -0.4, 0.2, 1]) {
    const [l, r] = at(0, pan);
    near(l * l + r * r, 2);
  }
});

test("level, pan and width lead from what was rendered to what is wanted", () => {
  const made = (gain_db, pan, width) => ({ figures: { gain_db, pan, width } });
  /** What a strip makes of a source: its sides scaled, then panned. */
  const through = (strip, [l, r]) => {
    const middle = (l + r) / 2, side = ((l - r) / 2) * strip.figures.width, gains = sides(strip);
    return [(middle + side) * gains[0], (middle - side) * gains[1]];
  };
  for (const [at, now] of [[made(0, 0, 1), made(-6, 0, 1)], [made(-3, 0.4, 1), made(2, -0.7, 0.2)], [made(1, -0.2, 0.5), made(1, -0.2, 2)], [made(0, 0, 1), made(0, 0, 0)]]) {
    const [l, r] = through(at, [0.7, -0.3]), [ll, lr, rl, rr] = passed(at, now), wanted = through(now, [0.7, -0.3]);
    near(ll * l + lr * r, wanted[0]);
    near(rl * l + rr * r, wanted[1]);
  }
  // Of what was rendered in mono, muted or on one side, nothing that isn't there is made up.
  for (const at of [made(0, 0, 0), made(0, -1, 1)]) assert.ok(passed(at, made(0, 0, 1)).every(Number.isFinite));
});

test("the two loudest parts of an octave, muted ones and buses left out", () => {
  const hz = [50, 63, 80, 1000], strips = [["kick", "part"], ["bass", "part"], ["pad", "part"], ["bus:low", "bus"], ["off", "part"]].map(([id, kind]) => ({ id, name: id, kind, mute: id === "off" }));
  const levels = { kick: [-20, -10, -30, -60], bass: [-12, -12, -12, -50], pad: [-60, -60, -60, -20], "bus:low": [0, 0, 0, 0], off: [0, 0, 0, 0] };
  const at = (middle) => loudestTwo({ hz, strips: levels }, strips).find(([f]) => f === middle)[1].map(([name]) => name);
  assert.deepEqual(at(60), ["bass", "kick"]);
  assert.deepEqual(at(1000), ["pad", "bass"]);
});

test("a bell stands at its gain, a shelf far from its corner, a cut 3 dB down at its own", () => {
  near(responseDb({ type: "peaking", hz: 1000, db: 6, q: 1 }, 1000), 6, 1e-9);
  near(responseDb({ type: "lowshelf", hz: 1000, db: -9, q: 0.71 }, 20), -9, 0.05);
  near(responseDb({ type: "highshelf", hz: 1000, db: 5, q: 0.71 }, 18000), 5, 0.05);
  for (const kind of ["low cut 12", "low cut 24", "high cut 48"]) near(sectionsOf({ kind, hz: 800, db: 0, q: 1 }).reduce((sum, s) => sum + responseDb(s, 800), 0), -3.01, 0.02);
  assert.equal(sectionsOf({ kind: "low cut 48", hz: 100, db: 0, q: 1 }).length, 4);
});

test("what changes between two states leads from the one to the other", () => {
  const was = bell(4), now = bell(-2.5, 1600), change = biquads(was, now);
  for (const hz of [100, 900, 1000, 1600, 9000]) near(stripResponseDb(was, hz) + change.reduce((sum, s) => sum + responseDb(s, hz), 0), stripResponseDb(now, hz), 1e-6);
  assert.deepEqual(biquads(was, bell(4)), []);
});

test("every section is stable", () => {
  for (const type of ["peaking", "lowshelf", "highshelf", "highpass", "lowpass"]) for (const hz of [20, 1000, 19000]) for (const q of [0.3, 8]) {
    const [, , , a1, a2] = coefficients({ type, hz, db: 12, q });
    assert.ok(Math.abs(a2) < 1 && Math.abs(a1) < 1 + a2, `${type} ${hz} ${q}`);
  }
});

test("a ducking curve that is read and drawn again is the same", () => {
  for (const [hold, release, bend] of [[0.05, 0.7, 1], [0.2, 0.9, 2], [0, 0.5, 0.6]]) {
    const read = readShape(makeShape({ hold, release, bend }));
    near(read.hold, hold, 2 / 64);
    near(read.release, release, 4 / 64);
    near(read.bend, bend, 0.4);
  }
  assert.ok(makeShape({ hold: 0.1, release: 0.8, bend: 1.5 }).every((v, i, all) => i === 0 || v <= all[i - 1]));
});
