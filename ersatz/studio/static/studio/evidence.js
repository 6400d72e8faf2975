// @ts-check
// What the figures of a track were read from, small under each of them.

import { BarAxis, el, fresh, refCurve, text } from "./draw.js";
import { tonicClass } from "./pitches.js";

/** @typedef {import("./states").SurveyDrawing} Survey */

/** How well each tempo explains the track; the one found is solid.
 *  @param {SVGElement} node
 *  @param {Survey} survey */
export function tempoEvidence(node, survey) {
  const { width, height } = fresh(node);
  const { bpm, strength } = survey.tempo.evidence;
  if (!bpm.length) return;
  const step = width / bpm.length;
  bpm.forEach((b, i) => {
    const chosen = Math.abs(b - survey.tempo.bpm) <= 0.5;
    const tall = Math.max(1, strength[i] * (height - 13));
    node.append(el("rect", { class: chosen ? "refsolid" : "quiet", x: i * step, y: height - 12 - tall, width: Math.max(1, step - 0.8), height: tall }));
  });
  for (const b of [80, 100, 120, 140, 160, 180]) {
    const i = bpm.findIndex((v) => v >= b);
    if (i >= 0) node.append(text(i * step, height - 1, b, { class: "s", "text-anchor": "middle" }));
  }
}

/** Short-term loudness over bars, the integrated one as a line.
 *  @param {SVGElement} node
 *  @param {Survey} survey
 *  @param {import("./track.js").Track} track */
export function loudnessEvidence(node, survey, track) {
  const { width, height } = fresh(node);
  const course = track.shortTerm.filter(([bar]) => bar >= 1);
  const axis = new BarAxis(0, width, survey.bars);
  const top = Math.max(...course.map(([, v]) => v));
  const y = (/** @type {number} */ v) => 3 + Math.min(1, (top - v) / 18) * (height - 6);
  const points = course.map(([bar, v]) => [axis.x(Math.min(bar, survey.bars + 1)), y(v)]);
  if (points.length > 1) node.append(...refCurve(points, height));
  const level = track.lufs;
  if (level !== null) node.append(el("line", { class: "lookline", x1: 0, x2: width, y1: y(level), y2: y(level), "stroke-dasharray": "2 4" }));
}

/** The ducking over its period.
 *  @param {SVGElement} node
 *  @param {Survey} survey */
export function pumpEvidence(node, survey) {
  const { width, height } = fresh(node);
  const curve = survey.pump.curve_db;
  const deepest = Math.max(6, survey.pump.depth_db);
  const points = curve.map((v, i) => [(i / (curve.length - 1)) * width, 3 + (-v / deepest) * (height - 8)]);
  node.append(...refCurve(points, height));
}

/** Two bars of a steady sound under the curve, from every trigger on: what the figures mean, by ear.
 *  @param {Survey} survey
 *  @param {AudioContext} context */
export function hearPump(survey, context) {
  const { pump, tempo } = survey;
  const beat = 60 / tempo.bpm;
  const step = beat / 4;
  const pattern = survey.drums.patterns[survey.main];
  const hits = (/** @type {"kick" | "clap"} */ name) => pattern[name].flatMap((v, i) => (v ? [i * step] : []));
  const every = (/** @type {number} */ length) => Array.from({ length: Math.round(tempo.beats_per_bar * beat / length) }, (_, i) => i * length);
  const byRate = new Map([["1/4", every(beat)], ["1/8", every(beat / 2)], ["kick", hits("kick")], ["kick and snare", [...hits("kick"), ...hits("clap")]]]), bar = byRate.get(pump.rate) ?? [];
  const period = pump.rate === "1/8" ? beat / 2 : beat;
  const barS = tempo.beats_per_bar * beat;
  const times = [...new Set([0, 1].flatMap((n) => bar.map((t) => t + n * barS)))].sort((a, b) => a - b);
  const start = context.currentTime + 0.05;
  const gain = context.createGain();
  gain.gain.value = 0.16;
  times.forEach((t, i) => {
    const length = Math.min(period, (times[i + 1] ?? 2 * barS) - t);
    const points = pump.curve_db.slice(0, Math.max(2, Math.round((length / period) * pump.curve_db.length)));
    gain.gain.setValueCurveAtTime(points.map((db) => 0.16 * 10 ** (db / 20)), start + t, length * 0.995);
  });
  for (const semitones of [0, 7, 12, 15]) {
    const sound = context.createOscillator();
    sound.type = "sawtooth";
    sound.frequency.value = 110 * 2 ** ((tonicClass(survey.key.tonic) + 3 + semitones) / 12 - 1);
    sound.connect(gain);
    sound.start(start);
    sound.stop(start + 2 * barS);
  }
  gain.connect(context.destination);
}
