// Geometry and time: the bar axis, curves of automation, quantising, pasting.

import assert from "node:assert/strict";
import test from "node:test";
import { studio } from "./page.js";

const { BarAxis, frequencyAxis, path, sectionNames } = await studio("draw");
const { Automation, held } = await studio("automation");
const { Pads } = await studio("pads");
const { pasted } = await studio("cells");
const { NotesPage, plainNote } = await studio("notespage");
const { timeLeft } = await studio("http");

const BAR = 3840;
const near = (a, b, by = 1e-6) => assert.ok(Math.abs(a - b) <= by, `${a} is not ${b}`);

test("a bar's place on the axis and back", () => {
  const axis = new BarAxis(86, 1086, 40);
  assert.equal(axis.x(1), 86);
  assert.equal(axis.x(41), 1086);
  for (const bar of [1, 7.5, 40.25]) near(axis.bar(axis.x(bar)), bar);
});

test("octaves are equally far apart on the frequency axis", () => {
  globalThis.document.createElementNS = () => ({ setAttribute: () => {}, append: () => {} });
  const { x } = frequencyAxis(0, 1000, 20, 20480, 0, 10);
  near(x(20), 0);
  near(x(20480), 1000);
  near(x(80) - x(40), x(8000) - x(4000));
});

test("sections that come again are numbered, those that don't aren't", () => {
  assert.deepEqual(sectionNames([["intro"], ["drop"], ["build"], ["drop"]]), ["intro", "drop 1", "build", "drop 2"]);
  assert.equal(path([[0, 1], [2.25, 3]]), "M0.0 1.0L2.3 3.0");
});

function automation(target) {
  const song = { id: 1, bars: 16, automation: {}, parts: [{ id: "lead", name: "Lead" }], strips: [["drums", "Drums", "bus"]] };
  const made = new Automation({ rows: {}, box: {}, song: () => song, send: () => {}, says: {} });
  made.targets = [target];
  [made.target] = target;
  return made;
}

test("a value's height and back, in even steps of dB and in octaves of Hz", () => {
  const level = automation(["fader.gain_db", "Fader", "dB", -60, 24, 0]), cutoff = automation(["voice.cutoff", "Cutoff", "Hz", 20, 20480, 1000]);
  assert.deepEqual(level.range, [-36, 12]);
  for (const v of [-36, -6, 0, 12]) near(level.value(level.y(v)), v, 1e-9);
  near(level.y(-12) - level.y(0), level.y(-24) - level.y(-12), 1e-9);
  for (const v of [20, 300, 20480]) near(cutoff.value(cutoff.y(v)), v, 1e-6);
  near(cutoff.y(40) - cutoff.y(80), cutoff.y(4000) - cutoff.y(8000), 1e-9);
  assert.deepEqual(level.owners, [["master", "Master"], ["drums", "Drums bus"], ["lead", "Lead"]]);
});

test("a first point leaves what lies bars away as it was", () => {
  assert.deepEqual(held([[2 * BAR + 960, -6, 0]], [], -3, 16 * BAR), [[2 * BAR, -3, 0], [2 * BAR + 960, -6, 0], [3 * BAR, -3, 0]]);
  // At either end of the song there is nothing to hold.
  assert.deepEqual(held([[0, -6, 0]], [], -3, BAR), [[0, -6, 0]]);
});

function recorded(notes) {
  const pads = new Pads({}, null, () => {});
  pads.line = notes;
  return pads;
}

test("what was played goes to the grid by as much as is wanted, and round the pattern", () => {
  // 40 ticks late on the second 16th, and just before the pattern begins again.
  const late = { midi: 60, velocity: 0.8, bar: 8 + 280 / BAR, end: 8 + 520 / BAR }, early = { midi: 62, velocity: 0.5, bar: 10 - 20 / BAR, end: 10 + 200 / BAR };
  const at = (amount) => recorded([late, early]).notes(8, 2, 240, amount).map((n) => [n.tick, n.ticks, n.midi]);
  assert.deepEqual(at(1), [[240, 240, 60], [0, 240, 62]]);
  assert.deepEqual(at(0), [[280, 240, 60], [2 * BAR - 20, 20, 62]]);
  assert.equal(at(0.5)[0][0], 260);
});

test("a note played twice in one place is there once", () => {
  const one = { midi: 60, velocity: 0.8, bar: 0, end: 0.05 };
  assert.deepEqual(recorded([one, { ...one, velocity: 0.3 }]).notes(0, 1).map((n) => n.velocity), [0.3]);
});

const cell = (more = {}) => ({ on: true, pattern: "A", entry: 0, exit: 0, level: 0, fill: "", fillBars: 0, sound: "", part: "", other: null, ...more });

test("a pasted cell fits its part and its section", () => {
  assert.deepEqual(pasted(cell({ pattern: "B", level: -2 }), cell(), ["A", "B"], 8), { on: true, level: -2, pattern: "B", entry: 0, exit: 0, fill: "", fillBars: 0 });
  assert.equal(pasted(cell({ pattern: "C" }), cell(), ["A", "B"], 8).pattern, "A");
  const short = pasted(cell({ entry: 6, exit: 4, fill: "B", fillBars: 2 }), cell(), ["A", "B"], 4);
  assert.deepEqual([short.entry, short.exit, short.fillBars], [3, 0, 1]);
  assert.equal(pasted(undefined, cell({ on: false }), ["A"], 4), null);
  assert.deepEqual(pasted(undefined, cell(), ["A"], 4), { on: false });
});

function notesPage(notes) {
  const sent = [];
  const row = { id: "lead", patterns: { A: { bars: 1, notes, loop_ticks: 0 }, B: { bars: 1, notes: [], loop_ticks: 0 } }, cells: { drop: ["B", true, ""] } };
  const song = { part: "lead", rows: [row], sections: [{ id: "drop", reference: null }], reference: [] };
  const page = new NotesPage(song, { send: (make) => sent.push(make()), draw: () => {}, tools: () => {}, hear: () => {}, bring: () => {} });
  return { page, row, sent };
}

test("a row shows what it plays in the section until another pattern is chosen", () => {
  const { page, row } = notesPage([]);
  assert.equal(page.nameOf(row), "B");
  page.shown.lead = "A";
  assert.equal(page.nameOf(row), "A");
  page.shown.lead = "gone";
  assert.equal(page.nameOf(row), "B");
});

test("a change of what is in hand leaves the rest, and stays in hand", () => {
  const low = plainNote({ tick: 0, ticks: 240, midi: 48, velocity: 0.5 }), high = plainNote({ tick: 960, ticks: 240, midi: 60, velocity: 0.5 });
  const { page, row, sent } = notesPage([low, high]);
  page.shown.lead = "A";
  page.pick(row, [high]);
  page.change(row, (n) => ({ midi: n.midi + 12 }), "moved");
  assert.deepEqual(sent[0].notes.map((n) => n.midi), [48, 72]);
  assert.deepEqual([...page.picked], ["lead/960.72"]);
  page.picked.clear();
  page.change(row, () => ({ midi: 0 }), "moved");
  assert.equal(sent[1], null);
  assert.equal(page.snap(959), 720);
});

test("how long a job still takes is said once it can be told", () => {
  let now = 0;
  const left = timeLeft(() => now);
  assert.equal(left(0.1), "");
  now = 3;
  assert.equal(left(0.3), "");
  now = 10;
  assert.equal(left(0.6), ", about 10 s left");
  now = 100;
  assert.equal(left(0.2), ", about 13 min left");
});

test("a figure's course goes from left to right, matched ones low, and leaves out what isn't told", async () => {
  const { places } = await studio("progress");
  const found = places([6, null, 0, 12], 6);
  assert.equal(found[1], null);
  assert.ok(found[0][0] < found[2][0] && found[2][0] < found[3][0]);
  // More than the most lies where the most does.
  assert.equal(found[0][1], found[3][1]);
  assert.ok(found[2][1] > found[0][1]);
  assert.equal(places([1], 6).length, 1);
});
