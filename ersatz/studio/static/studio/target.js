// @ts-check
// A target: the typical track with the corridor around each of its figures, and the members that it was made from.

import { byId, labelled, svgById as svg } from "./dom.js";
import { BarAxis, corridor, el, frequencyAxis, fresh, readJson, redrawn, sectionNames, sectionRow, text } from "./draw.js";
import { drumSteps, energyRows, eventMarks, presenceRows } from "./pictures.js";

/** @type {import("./states").TargetDrawing} */
const target = readJson("drawing");
const { spread } = target;
const usual = (/** @type {import("./states").Span} */ { low, high }) => (low === high ? `${low}` : `${low}–${high}`);
let picked = target.main;

/** Where the members' tempi lie, the usual span hatched, the chosen tempo as a mark. */
function tempo() {
  const node = svg("tempo-evidence");
  const { width, height } = fresh(node);
  const all = [target.tempo.bpm, spread.bpm.low, spread.bpm.high, ...target.members.map((m) => m.bpm)];
  const low = Math.floor(Math.min(...all)) - 2, high = Math.ceil(Math.max(...all)) + 2;
  const x = (/** @type {number} */ bpm) => 8 + ((bpm - low) / (high - low)) * (width - 16);
  const floor = height - 14;
  node.append(el("rect", { class: "refbox", x: x(spread.bpm.low), y: 8, width: Math.max(2, x(spread.bpm.high) - x(spread.bpm.low)), height: floor - 10 }));
  node.append(el("line", { class: "tick", x1: 0, x2: width, y1: floor, y2: floor }));
  for (const { bpm } of target.members) node.append(el("line", { class: "refline", x1: x(bpm), x2: x(bpm), y1: floor - 8, y2: floor + 3 }));
  const at = x(target.tempo.bpm);
  node.append(el("path", { class: "playhead-mark", d: `M${at - 5} 0h10l-5 8z` }));
  for (const bpm of [low + 2, high - 2]) node.append(text(x(bpm), height - 1, bpm, { class: "s", "text-anchor": "middle" }));
}

/** Each key's share of the members. */
function keys() {
  const node = svg("key-evidence");
  const { width, height } = fresh(node);
  if (!spread.keys.length) {
    node.append(text(0, 18, "any key will do", { class: "s" }));
    return;
  }
  const most = spread.keys.slice(0, 5), step = width / Math.max(4, most.length);
  most.forEach(({ tonic, mode, share }, i) => {
    const tall = Math.max(2, (share / most[0].share) * (height - 16));
    const name = `${tonic.replace("b", "♭").replace("#", "♯")} ${mode === "minor" ? "min" : "maj"}`;
    node.append(el("rect", { class: i ? "refbox" : "refsolid", x: i * step + 1, y: height - 14 - tall, width: step - 8, height: tall }), text(i * step + 1, height - 2, name, { class: "s" }));
  });
}

function loudness() {
  const node = svg("loudness-evidence");
  const { width, height } = fresh(node);
  const axis = new BarAxis(0, width, target.bars);
  const { low, high } = spread.loudnessCourse;
  const top = Math.max(...high);
  const y = (/** @type {number} */ v) => 3 + Math.min(1, (top - v) / 18) * (height - 6);
  const steps = (/** @type {number[]} */ values) => values.flatMap((v, i) => [[axis.x(i + 1), y(v)], [axis.x(i + 2), y(v)]]);
  const barS = (60 / target.tempo.bpm) * target.tempo.beats;
  const middle = target.lufs.map(([t, v]) => [axis.x(1 + (t - 1.5) / barS), y(v)]);
  node.append(...corridor(steps(low), steps(high), middle));
}

function pump() {
  const node = svg("pump-evidence");
  const { width, height } = fresh(node);
  const { low, high } = spread.pumpCurve;
  const deepest = Math.max(6, ...low.map((v) => -v));
  const points = (/** @type {number[]} */ curve) => curve.map((v, i) => [(i / (curve.length - 1)) * width, 3 + (-v / deepest) * (height - 6)]);
  node.append(...corridor(points(low), points(high), points(target.pumpBeatDb)));
}

function score() {
  const host = byId("score");
  const node = host.querySelector("svg") ?? host.appendChild(el("svg", { role: "group", "aria-label": "Sections, energy and presence over bars" }));
  const height = 322;
  const { width } = fresh(node, height);
  const axis = new BarAxis(86, width - 2, target.bars);
  node.append(...axis.ticks(0));
  node.append(...sectionRow(axis, target.sections.map((s) => [s.label, s.start_bar, s.bars]), 17, 26, "ref", pick));
  node.append(text(0, 57, "bars, usually", { class: "s" }));
  target.sections.forEach((s, i) => node.append(text(axis.x(s.start_bar) + 3, 57, usual(spread.sectionBars[i]), { class: "s" })));
  node.append(el("g", { transform: "translate(0 18)" }, ...energyRows(axis, target.energy, 50), ...presenceRows(axis, target.presence, 152), ...eventMarks(axis, target.events, target.tempo.beats)));
  const s = target.sections[picked];
  node.append(el("rect", { class: "frame", x: axis.x(s.start_bar) - 1, y: 14, width: axis.x(s.start_bar + s.bars) - axis.x(s.start_bar) + 2, height: height - 17 }));
}

/** @param {number} index */
function pick(index) {
  picked = index;
  const focus = document.activeElement?.getAttribute("aria-label");
  score();
  details();
  if (focus) labelled(focus, "#score")?.focus();
}

function spectrum() {
  const node = svg("detail-spectrum");
  const { width, height } = fresh(node);
  const level = target.spectrum.per_section[picked].level_db, { low, high } = spread.spectrum[picked];
  const { x, grid } = frequencyAxis(22, width, 25, 20000, 0, height - 16);
  const inside = target.spectrum.centers_hz.map((_, i) => i).filter((i) => target.spectrum.centers_hz[i] >= 25);
  const top = Math.max(...high), depth = Math.min(60, top - Math.min(...inside.map((i) => low[i])) + 2);
  const y = (/** @type {number} */ v) => 4 + Math.min(1, Math.max(0, top - v) / depth) * (height - 24);
  const points = (/** @type {number[]} */ values) => inside.map((i) => [x(target.spectrum.centers_hz[i]), y(values[i])]);
  node.append(...grid);
  for (let db = -10; db > top - depth; db -= 10) node.append(text(0, y(db) + 4, `−${-db}`, { class: "s" }));
  node.append(...corridor(points(low), points(high), points(level)));
}

/** Width by band: the span hatched, the median as a line across it. */
function widths() {
  const node = svg("detail-width");
  const { width: wide, height } = fresh(node);
  const lane = (height - 4) / target.stereo.bands.length;
  const hz = (/** @type {number} */ v) => (v >= 1000 ? `${v / 1000}k` : v);
  target.stereo.bands.forEach((b, i) => {
    const y = height - 2 - (i + 1) * lane, x = (/** @type {number} */ v) => 74 + (wide - 112) * Math.min(1, v);
    const { low, high } = spread.width[i];
    node.append(text(0, y + lane / 2 + 3, `${hz(b.low_hz)}–${hz(b.high_hz)}`, { class: "s" }));
    node.append(el("rect", { fill: "none", class: "grid", x: 74, y: y + 3, width: wide - 112, height: lane - 7 }));
    node.append(el("rect", { class: "refbox", x: x(low), y: y + 3, width: Math.max(2, x(high) - x(low)), height: lane - 7 }));
    node.append(el("line", { class: "lookline", "stroke-width": 2, x1: x(b.width), x2: x(b.width), y1: y + 1, y2: y + lane - 2 }));
    node.append(text(wide - 32, y + lane / 2 + 3, b.width.toFixed(2)));
  });
}

function details() {
  const s = target.sections[picked];
  const name = sectionNames(target.sections.map((section) => [section.label]))[picked];
  byId("detail-name").textContent = `${name}, usually ${usual(spread.sectionBars[picked])} bars`;
  byId("detail-lufs").textContent = `${s.loudness_lufs.toFixed(1).replace("-", "−")} LUFS`;
  drumSteps(svg("detail-drums"), target.drums.patterns[picked], target.tempo.beats);
  spectrum();
  widths();
}

redrawn(() => {
  tempo();
  keys();
  loudness();
  pump();
  score();
  details();
});
