// Scheduling: which bars play when, without a gap, round a loop and from one version to the next.

import assert from "node:assert/strict";
import test from "node:test";
import { clock, fades, gone, install, scheduled } from "./audio.js";
import { studio } from "./page.js";

install();
const { Player } = await studio("player");

const BAR_S = 2;
const track = (url, more = {}) => ({ title: "", url, bars: 16, bpm: 120, sections: [["intro", 1, 8], ["drop", 9, 8]], lufs: -9, shortTerm: [], ...more });
const settled = () => new Promise((resolve) => setTimeout(resolve, 20));

async function playing(tracks, prepare = () => {}) {
  clock.currentTime = 0;
  scheduled.length = 0;
  const player = new Player({ id: 1, reference: null, remake: null, ...tracks });
  prepare(player);
  await player.play();
  await settled();
  return player;
}

test("whole chunks follow each other without a gap, five seconds ahead", async () => {
  const player = await playing({ remake: track("/r/") });
  assert.deepEqual(scheduled.map((s) => s.url), ["/r/1-2.flac", "/r/3-4.flac"]);
  clock.currentTime = 4;
  await new Promise((resolve) => setTimeout(resolve, 450));
  player.stop();
  assert.deepEqual(scheduled.map((s) => s.url), ["/r/1-2.flac", "/r/3-4.flac", "/r/5-6.flac"]);
  for (const [first, second] of [scheduled.slice(0, 2), scheduled.slice(1, 3)]) {
    assert.ok(Math.abs(first.at + first.seconds - second.at) < 1e-9);
    assert.equal(first.seconds, 2 * BAR_S);
  }
});

test("from the middle of a chunk the rest of it plays", async () => {
  const player = await playing({ remake: track("/r/") }, (p) => p.seek(5.5));
  player.stop();
  assert.equal(scheduled[0].url, "/r/5-6.flac");
  assert.equal(scheduled[0].offset, 1.5 * BAR_S);
  assert.equal(scheduled[0].seconds, 0.5 * BAR_S);
});

test("a loop ends at its end and begins again at its start", async () => {
  const player = await playing({ remake: track("/r/") }, (p) => {
    p.loop = { start: 8, end: 10 };
    p.seek(9);
  });
  player.stop();
  assert.deepEqual(scheduled.slice(0, 2).map((s) => [s.url, s.offset, s.seconds]), [["/r/9-10.flac", BAR_S, BAR_S], ["/r/9-10.flac", 0, 2 * BAR_S]]);
});

test("both tracks of one tempo play side by side, of two tempi only the one that is heard", async () => {
  let player = await playing({ remake: track("/r/"), reference: track("/f/", { beats: 4, firstS: 0, tonicHz: 220 }) });
  player.stop();
  assert.deepEqual(scheduled.slice(0, 2).map((s) => [s.url, s.at]), [["/f/1-2.flac", scheduled[0].at], ["/r/1-2.flac", scheduled[0].at]]);
  player = await playing({ remake: track("/r/"), reference: track("/f/", { bpm: 121, beats: 4, firstS: 0, tonicHz: 220 }) });
  player.stop();
  assert.deepEqual(scheduled.map((s) => s.url), ["/r/1-2.flac", "/r/3-4.flac"]);
});

test("a newer version takes over at the place that the old one has reached by then", async () => {
  const player = await playing({ remake: track("/r/") });
  clock.currentTime = 3.05;
  await player.replaceRemake("/new/");
  await settled();
  player.stop();
  const old = scheduled[0], fresh = scheduled.find((s) => s.url === "/new/1-2.flac");
  assert.ok(fresh.at > clock.currentTime);
  // The same place of the music at the same moment.
  assert.ok(Math.abs((fresh.at - old.at) - (fresh.offset - old.offset)) < 1e-9);
});

test("what is late begins now, the place kept", async () => {
  const player = await playing({ remake: track("/r/") });
  player.stop();
  assert.ok(Math.abs(player.position() - 0) < 1e-9);
  clock.currentTime = 100;
  await player.play();
  await settled();
  player.stop();
  assert.ok(scheduled.at(-1).at >= 100.05 - 1e-9);
  assert.equal(scheduled.at(-1).offset, 0);
});

test("bars that aren't there are asked for again, at their new address as soon as it is known", async () => {
  gone.add("/old/1-2.flac");
  const player = await playing({ reference: track("/old/", { beats: 4, firstS: 0, tonicHz: 220 }) });
  assert.ok(player.isPlaying);
  assert.equal(scheduled.length, 0);
  await player.replaceReference({ ...track("/new/"), beats: 4, firstS: 0.005, tonicHz: 220 });
  await settled();
  player.stop();
  assert.equal(scheduled[0].url, "/new/1-2.flac");
});

test("bars that stay away stop it, with a sentence, once it has waited for a while", async () => {
  gone.add("/gone/1-2.flac");
  let said = "";
  const player = await playing({ remake: track("/gone/") }, (p) => { p.onProblem = (sentence) => { said = sentence; }; });
  assert.deepEqual([player.isPlaying, said], [true, ""]);
  clock.currentTime = 10;
  await new Promise((resolve) => setTimeout(resolve, 450));
  assert.equal(player.isPlaying, false);
  assert.match(said, /could not be loaded/);
});

test("of two loudnesses the louder comes down, over the loop where there is one", async () => {
  const course = (lufs) => Array.from({ length: 16 }, (_, k) => [k + 1, lufs[k < 8 ? 0 : 1]]);
  const player = new Player({
    id: 1, remake: track("/r/", { lufs: -9, shortTerm: course([-20, -8]) }), reference: track("/f/", { lufs: -7, shortTerm: course([-14, -8]), beats: 4, firstS: 0, tonicHz: 220 }),
  });
  assert.equal(player.offsetDb(), 2);
  player.loop = { start: 0, end: 8 };
  assert.ok(Math.abs(player.offsetDb() - 6) < 1e-9);
  player.tracks.remake.replace({ lufs: null, shortTerm: [] });
  assert.equal(player.offsetDb(), null);
});

test("taking turns, the fades fall on the bar lines of the audio clock, whoever is heard first", async () => {
  fades.length = 0;
  const player = await playing({ remake: track("/r/"), reference: track("/f/", { beats: 4, firstS: 0, tonicHz: 220 }) }, (p) => {
    p.hear("reference");
    p.setTurns(2);
    fades.length = 0;
  });
  const begin = scheduled[0].at, planned = fades.filter(([, at]) => at > begin);
  // Of four bars the second half is the other's: one fades out, one fades in.
  assert.deepEqual(planned.map(([level, at]) => [level, at]), [[0, begin + 2 * BAR_S], [1, begin + 2 * BAR_S]]);
  clock.currentTime = begin + 2.5 * BAR_S;
  player.setEqual(true);
  player.hear("remake");
  assert.equal(player.turns.bars, 0);
  player.stop();
});

test("equal loudness turns the louder one down; as they are nothing is turned", async () => {
  const player = await playing({ remake: track("/r/", { lufs: -7 }), reference: track("/f/", { beats: 4, firstS: 0, tonicHz: 220 }) });
  assert.equal(player.offsetDb(), -2);
  player.setEqual(false);
  assert.equal(player.offsetDb(), 0);
  player.stop();
});
