// @ts-check
// The details of one section of a reference: drums, bass, chords, spectrum; and the kick and the width of the whole track.

import { byId, svgById as svg } from "./dom.js";
import { el, frequencyAxis, fresh, label, path, refCurve, text } from "./draw.js";
import { drumSteps, sure } from "./pictures.js";
import { tonicClass } from "./pitches.js";

/** @typedef {import("./states").SurveyDrawing} Survey */
/** @typedef {import("./states").Section} Section */

/** @param {Survey} survey
 *  @param {number} picked */
export function drawDetails(survey, picked) {
  const section = survey.sections[picked], pattern = survey.drums.patterns[picked];
  byId("drums-sure").textContent = sure(pattern.confidence);
  drumSteps(svg("detail-drums"), pattern, survey.tempo.beats_per_bar);
  bass(survey, section);
  spectrum(survey, survey.spectrum.per_section[picked].level_db);
  chords(survey, section);
  kick(survey);
  width(survey);
}

/** Mean of values by weights; null where one isn't known.
 *  @param {[value: number | null, weight: number][]} all */
function mean(all) {
  const known = all.flatMap(([v, w]) => (v === null ? [] : [[v, w]]));
  return known.length < all.length ? null : known.reduce((sum, [v, w]) => sum + v * w, 0) / known.reduce((sum, [, w]) => sum + w, 0);
}

/** One box per bar of the section's first eight: chord and degree.
 *  @param {Survey} survey
 *  @param {Section} s */
function chords(survey, s) {
  const node = svg("detail-chords");
  const { width } = fresh(node);
  const bars = Math.min(8, s.bars);
  const here = survey.harmony.chords.filter((c) => c.start_bar < s.start_bar + bars && c.start_bar + c.bars > s.start_bar);
  byId("chords-sure").textContent = here.length ? `, ${sure(mean(here.map((c) => [c.confidence, c.bars])))}` : "";
  if (!here.length) {
    node.append(text(0, 24, "no chords here", { class: "s" }));
    return;
  }
  const per = Math.min(4, bars), step = width / per;
  for (let bar = 0; bar < bars; bar += 1) {
    const number = s.start_bar + bar, x = (bar % per) * step, y = Math.floor(bar / per) * 54;
    node.append(text(x + 2, y + 10, number, { class: "s" }));
    const inside = here.filter((c) => c.start_bar < number + 1 && c.start_bar + c.bars > number);
    if (!inside.length) node.append(el("rect", { class: "grid", fill: "none", x: x + 1, y: y + 14, width: step - 5, height: 36 }));
    for (const chord of inside) {
      const from = Math.max(number, chord.start_bar) - number, to = Math.min(number + 1, chord.start_bar + chord.bars) - number;
      const left = x + 1 + from * (step - 5), wide = (to - from) * (step - 5);
      const box = el("rect", { class: chord.confidence !== null && chord.confidence < 0.5 ? "refbox unsure" : "refbox", x: left, y: y + 14, width: wide, height: 36 });
      box.append(el("title", {}, `${chord.name}, ${sure(chord.confidence)}`));
      node.append(box, ...label(left + 4, y + 31, chord.name, { class: "refname" }));
      node.append(...label(left + 4, y + 46, chord.degree, { class: "s" }));
    }
  }
}

/** The kick's level (hatched, dB) and pitch (line, log Hz) over its 400 ms.
 *  @param {Survey} survey */
function kick(survey) {
  const node = svg("detail-kick");
  const { width, height } = fresh(node);
  const portrait = survey.drums.kick;
  if (!portrait || !portrait.envelope_db.length) {
    node.append(text(0, 24, "no kick that could be told", { class: "s" }));
    return;
  }
  const floor = height - 16;
  const x = (/** @type {number} */ ms) => (ms / 400) * width;
  const level = portrait.envelope_db.map((v, i) => [x((i / portrait.envelope_db.length) * 400), 2 + Math.min(1, -v / 48) * (floor - 2)]);
  const y = (/** @type {number} */ hz) => 2 + (1 - Math.log(hz / 25) / Math.log(20)) * (floor - 2);
  for (const ms of [100, 200, 300]) node.append(el("line", { class: "grid", x1: x(ms), x2: x(ms), y1: 0, y2: floor }), text(x(ms), height - 3, `${ms} ms`, { class: "s", "text-anchor": "middle" }));
  node.append(...refCurve(level, floor));
  const pitch = portrait.pitch.map(([ms, hz]) => [x(ms), y(hz)]);
  if (pitch.length > 1) node.append(el("path", { class: "lookline", fill: "none", "stroke-width": 2, d: path(pitch) }));
}

/** @param {Survey} survey
 *  @param {Section} s */
function bass(survey, s) {
  const node = svg("detail-bass");
  const { width, height } = fresh(node);
  const first = (s.start_bar - 1) * 4;
  const notes = survey.bass.filter(([start]) => start >= first && start < first + Math.min(16, s.bars * 4));
  if (!notes.length) {
    node.append(text(0, 24, "no bass here", { class: "s" }));
    byId("bass-sure").textContent = "";
    return;
  }
  byId("bass-sure").textContent = sure(mean(notes.map((n) => [n[6], n[1]])));
  const stepOf = (/** @type {number} */ midi) => (midi + 120 - tonicClass(survey.key.tonic)) % 12;
  // One lane per degree, octaves folded together: what the line does is read faster than where it lies.
  const steps = new Map(notes.map(([, , midi, degree]) => /** @type {[number, string]} */ ([stepOf(midi), degree])));
  const lanes = [...steps].sort((a, b) => a[0] - b[0]);
  const left = 28, lane = Math.min(22, (height - 16) / lanes.length);
  const x = (/** @type {number} */ beat) => left + ((beat - first) / 16) * (width - left);
  const yOf = (/** @type {number} */ step) => height - 16 - (lanes.findIndex(([s]) => s === step) + 1) * lane;
  for (const [step, degree] of lanes) {
    const y = yOf(step);
    node.append(text(0, y + lane / 2 + 4, degree, { class: "s" }), el("line", { class: "grid", x1: left, x2: width, y1: y + lane, y2: y + lane }));
  }
  for (const [start, beats, midi, , name, slide, confidence] of notes) {
    const y = yOf(stepOf(midi));
    const box = el("rect", { class: confidence < 0.5 ? "refbox unsure" : "refbox", x: x(start) + 0.5, y: y + 2, width: Math.max(2, ((width - left) / 16) * beats - 2), height: Math.max(3, lane - 4) });
    box.append(el("title", {}, slide ? `${name}, slid to from ${Math.abs(slide)} semitones ${slide > 0 ? "above" : "below"}` : name, `, ${sure(confidence)}`));
    node.append(box);
    // Slides are drawn where they arrive: a stroke from above or below the note's box to its middle.
    if (slide) {
      const from = slide > 0 ? y - 2 : y + lane + 2;
      node.append(el("path", { class: "lookline", fill: "none", "stroke-width": 2, d: path([[x(start) - 5, from], [x(start) + 7, y + lane / 2]]) }));
    }
  }
  for (let bar = 0; bar < 4; bar += 1) node.append(text(x(first + bar * 4), height - 2, s.start_bar + bar, { class: "s" }));
}

/** @param {Survey} survey
 *  @param {number[]} level */
function spectrum(survey, level) {
  const node = svg("detail-spectrum");
  const { width, height } = fresh(node);
  const { x, grid } = frequencyAxis(0, width, 25, 20000, 0, height - 16);
  const top = Math.max(...level);
  const points = survey.spectrum.centers_hz.map((hz, i) => [x(hz), 4 + Math.min(1, (top - level[i]) / 48) * (height - 24)]).filter(([at]) => at >= 0);
  node.append(...grid, ...refCurve(points, height - 16));
  const rings = survey.spectrum.resonances.slice(0, 3);
  node.append(...rings.map(({ hz }) => el("line", { class: "lookline", "stroke-width": 2, x1: x(hz), x2: x(hz), y1: 4, y2: height - 16 })));
  rings.forEach(({ hz, over_db }, i) => {
    const name = `rings +${over_db.toFixed(0)} dB at ${hz >= 1000 ? `${(hz / 1000).toFixed(1)} kHz` : `${hz} Hz`}`;
    // Centred on its line, which no other label's is.
    node.append(...label(Math.min(x(hz) - 3.2 * name.length, width - 6.4 * name.length - 6), height - 22 - i * 18, name));
  });
}

/** @param {Survey} survey */
function width(survey) {
  const node = svg("detail-width");
  const { width: wide, height } = fresh(node);
  const bands = survey.stereo.bands;
  const lane = (height - 4) / bands.length;
  const hz = (/** @type {number} */ v) => (v >= 1000 ? `${v / 1000}k` : v);
  [...bands].reverse().forEach((b, i) => {
    const y = 2 + i * lane;
    node.append(text(0, y + lane / 2 + 3, `${hz(b.low_hz)}–${hz(b.high_hz)}`, { class: "s" }));
    node.append(el("rect", { fill: "none", class: "grid", x: 74, y: y + 3, width: wide - 112, height: lane - 7 }));
    node.append(el("rect", { class: "refbox", x: 74, y: y + 3, width: Math.max(1, (wide - 112) * Math.min(1, b.width)), height: lane - 7 }));
    node.append(text(wide - 32, y + lane / 2 + 3, b.width.toFixed(2)));
  });
}
