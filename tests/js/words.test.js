// Names of pitches and places, sounds that are searched.

import assert from "node:assert/strict";
import test from "node:test";
import { studio } from "./page.js";

const { noteName, placeSaid, scaleOf } = await studio("pitches");
const { fits } = await studio("soundpicker");
const { decodedName } = await studio("names");

test("notes are spelled as their key has them", () => {
  assert.equal(noteName(54, ["Bb", "minor"]), "G♭3");
  assert.equal(noteName(54, ["E", "minor"]), "F♯3");
  assert.deepEqual(scaleOf(["E", "minor"]), [4, 6, 7, 9, 11, 0, 2]);
});

test("places are read as bar and beat", () => {
  assert.equal(placeSaid(0, 3840), "bar 1 beat 1");
  assert.equal(placeSaid(3840 + 960, 3840), "bar 2 beat 2");
  assert.equal(placeSaid(1200, 3840), "bar 1 beat 2, 16th 2");
});

test("a search finds words of name, kind, character, tone and role in any order", () => {
  const keel = { name: "Keel", kind: "sub", character: "round plain", brightness: "dark" };
  for (const find of ["", "keel", "dark sub", "Bass", "ROUND"]) assert.ok(fits(keel, "bass", find), find);
  assert.ok(!fits(keel, "bass", "bright"));
});

test("file names out of addresses are decoded, others left", () => {
  assert.equal(decodedName("Ferry%20at%20Four.wav"), "Ferry at Four.wav");
  assert.equal(decodedName("100% ferry.wav"), "100% ferry.wav");
});
