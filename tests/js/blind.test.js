// The blind test: what guessing gives, and a test from the first round to the verdict.

import assert from "node:assert/strict";
import test from "node:test";
import { studio } from "./page.js";

const { BlindTest, ROUNDS, chance, score, verdict } = await studio("blind");

test("what guessing reaches follows the binomial distribution", () => {
  assert.equal(chance(0, 20), 1);
  assert.equal(chance(20, 20), 2 ** -20);
  // From tables of the distribution.
  assert.ok(Math.abs(chance(15, 20) - 0.0207) < 5e-5);
  assert.ok(Math.abs(chance(10, 20) - 0.5881) < 5e-5);
  for (let k = 0; k <= 20; k += 1) assert.ok(Math.abs(chance(k, 20) + chance(21 - k, 20) - 1) < 1e-12);
});

test("a verdict names the score, the chance and what follows", () => {
  const rounds = (right) => Array.from({ length: ROUNDS }, (_, i) => ({ played: "remake", said: i < right ? "remake" : "reference" }));
  assert.equal(score(rounds(13)), 13);
  assert.match(verdict(rounds(20)), /^20 of 20 right\..*under 0\.1 % of tests\. You can tell them apart\.$/);
  assert.match(verdict(rounds(11)), /^11 of 20 right\..*41 % of tests\. That is no better than guessing\.$/);
  assert.match(verdict(rounds(15)), /2\.1 % of tests\. You can tell/);
  assert.match(verdict(rounds(14)), /5\.8 % of tests\. That is no better/);
});

test("twenty rounds: what plays is what the coin said, at equal loudness, and nothing else tells", () => {
  const acts = [], order = Array.from({ length: ROUNDS }, (_, i) => (i % 3 ? "remake" : "reference"));
  const player = {
    loop: { start: 8, end: 12 }, isHidden: false, setEqual: (on) => acts.push(["equal", on]), setTurns: () => {}, stop: () => {}, play: () => acts.push(["play"]),
    hear: (which) => acts.push(["hear", which]), seek: (bar) => acts.push(["seek", bar]),
  };
  const coin = order[Symbol.iterator](), blind = new BlindTest({ player, changed: () => {}, coin: () => coin.next().value });
  blind.begin();
  assert.ok(player.isHidden && blind.isOn);
  for (let i = 0; i < ROUNDS; i += 1) blind.answer("remake");
  assert.deepEqual(acts.filter(([what]) => what === "hear").map(([, which]) => which), order);
  assert.deepEqual(acts[0], ["equal", true]);
  assert.ok(acts.filter(([what]) => what === "seek").every(([, bar]) => bar === 8));
  assert.ok(!player.isHidden && !blind.isOn);
  assert.equal(score(blind.rounds), 13);
});
