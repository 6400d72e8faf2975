// The survey: evidence under each figure, the score of the track, details of the picked section, corrections.

import { asked, remember } from "./address.js";
import { BarAxis, el, frequencyAxis, boundaryHandle, fresh, label, path, playhead, readJson, redrawn, refCurve, sectionNames, sectionRow, text } from "./draw.js";
import { player } from "./frame.js";
import { follow, post, progressElement } from "./http.js";
import { fieldOf, isForPage } from "./keys.js";
import { changeMarks, drumSteps, energyRows, eventMarks, keyBars, presenceRows, pumpRow, sure } from "./pictures.js";
import { tonicClass } from "./pitches.js";

let survey = readJson("drawing");
const byId = (id) => document.getElementById(id), svg = byId;
let picked = Math.min(survey.sections.length - 1, Math.max(0, Number(asked.get("section") ?? survey.main)));

function tempoEvidence() {
  const node = svg("tempo-evidence");
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

function loudnessEvidence() {
  const node = svg("loudness-evidence");
  const { width, height } = fresh(node);
  const course = player.tracks.reference.shortTerm.filter(([bar]) => bar >= 1);
  const axis = new BarAxis(0, width, survey.bars);
  const top = Math.max(...course.map(([, v]) => v));
  const y = (v) => 3 + Math.min(1, (top - v) / 18) * (height - 6);
  const points = course.map(([bar, v]) => [axis.x(Math.min(bar, survey.bars + 1)), y(v)]);
  if (points.length > 1) node.append(...refCurve(points, height));
  const level = player.tracks.reference.lufs;
  node.append(el("line", { class: "lookline", x1: 0, x2: width, y1: y(level), y2: y(level), "stroke-dasharray": "2 4" }));
}

function pumpEvidence() {
  const node = svg("pump-evidence");
  const { width, height } = fresh(node);
  const curve = survey.pump.curve_db;
  const deepest = Math.max(6, survey.pump.depth_db);
  const points = curve.map((v, i) => [(i / (curve.length - 1)) * width, 3 + (-v / deepest) * (height - 8)]);
  node.append(...refCurve(points, height));
}

/** Two bars of a steady sound under the curve, from every trigger on: what the figures mean, by ear. */
async function hearPump() {
  const { pump, tempo } = survey;
  const context = await player.open();
  const beat = 60 / tempo.bpm;
  const step = beat / 4;
  const pattern = survey.drums.patterns[survey.main];
  const hits = (name) => pattern[name].flatMap((v, i) => (v ? [i * step] : []));
  const every = (length) => Array.from({ length: Math.round(tempo.beats_per_bar * beat / length) }, (_, i) => i * length);
  const bar = { "1/4": every(beat), "1/8": every(beat / 2), kick: hits("kick"), "kick and snare": [...hits("kick"), ...hits("clap")] }[pump.rate];
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

function score() {
  const host = document.getElementById("score");
  let node = host.querySelector("svg");
  if (!node) {
    node = el("svg", { role: "group", "aria-label": "Sections, energy and presence over bars" });
    host.append(node);
  }
  const height = 336;
  const { width } = fresh(node, height);
  const axis = new BarAxis(86, width - 2, survey.bars);
  node.append(...axis.ticks(0));
  const sections = survey.sections.map((s) => [s.label, s.start_bar, s.bars]);
  node.append(...sectionRow(axis, sections, 17, 26, "ref", pick));
  node.append(...energyRows(axis, survey.energy, 50), ...presenceRows(axis, survey.presence, 152), ...pumpRow(axis, survey.sections, survey.pump, 152));
  if (survey.measured) node.append(...measuredSections(axis));
  node.append(...eventMarks(axis, survey.events, survey.tempo.beats_per_bar), ...changeMarks(axis, survey.changes, 56, height - 3));
  node.append(text(0, height - 5, "changes", { class: "s" }));
  const s = survey.sections[picked];
  node.append(el("rect", { class: "frame", x: axis.x(s.start_bar) - 1, y: 14, width: axis.x(s.start_bar + s.bars) - axis.x(s.start_bar) + 2, height: height - 17 }));
  playhead(node, axis, 0, height, player, [0, 16]);
  survey.sections.slice(1).forEach((_, i) => node.append(boundary(node, axis, i + 1)));
}

/** Where the measurement has its boundaries, as dashed lines under the corrected sections. */
function measuredSections(axis) {
  return survey.measured.sections.slice(1).map(([label, start]) => {
    const line = el("line", { class: "measured", x1: axis.x(start), x2: axis.x(start), y1: 38, y2: 50 });
    line.append(el("title", {}, `measured: ${label} from bar ${Math.round(start)}`));
    return line;
  });
}

/** The boundary of two sections, which can be taken to another bar. */
function boundary(node, axis, index) {
  const section = survey.sections[index];
  const limits = { bar: section.start_bar, least: survey.sections[index - 1].start_bar + 1, most: section.start_bar + section.bars - 1 };
  return boundaryHandle(node, axis, { ...limits, top: 14, bottom: 46, name: `Start of ${section.label}, bar` }, (bar) => {
    const edited = survey.sections.map(({ label, start_bar, bars }) => ({ label, start_bar, bars }));
    edited[index - 1].bars += bar - section.start_bar;
    edited[index].bars -= bar - section.start_bar;
    edited[index].start_bar = bar;
    correctSections(edited);
  });
}

function pick(index) {
  picked = index;
  remember({ section: index });
  const focus = document.activeElement?.getAttribute("aria-label");
  player.seek(survey.sections[index].start_bar - 1);
  score();
  details();
  if (focus) [...document.querySelectorAll("#score [role=button]")].find((n) => n.getAttribute("aria-label") === focus)?.focus();
}

function details() {
  const names = sectionNames(survey.sections.map((s) => [s.label]));
  const s = survey.sections[picked];
  document.getElementById("detail-name").textContent = `${names[picked]}, bars ${s.start_bar}–${s.start_bar + s.bars - 1}`;
  document.getElementById("detail-sure").textContent = survey.corrected ? "set by hand" : sure(s.confidence);
  document.getElementById("tool-name").textContent = names[picked];
  document.getElementById("section-label").value = s.label;
  document.getElementById("section-merge").disabled = picked === survey.sections.length - 1;
  document.getElementById("section-split").disabled = s.bars < 2;
  document.getElementById("drums-sure").textContent = sure(survey.drums.patterns[picked].confidence);
  drumSteps(svg("detail-drums"), survey.drums.patterns[picked], survey.tempo.beats_per_bar);
  bass();
  spectrum();
  chords();
  kick();
  width();
}

/** Of [value, weight]. */
const mean = (all) => (all.some(([v]) => v === null) ? null : all.reduce((sum, [v, w]) => sum + v * w, 0) / all.reduce((sum, [, w]) => sum + w, 0));

/** One box per bar of the section's first eight: chord and degree. */
function chords() {
  const node = svg("detail-chords");
  const { width } = fresh(node);
  const s = survey.sections[picked];
  const bars = Math.min(8, s.bars);
  const here = survey.harmony.chords.filter((c) => c.start_bar < s.start_bar + bars && c.start_bar + c.bars > s.start_bar);
  document.getElementById("chords-sure").textContent = here.length ? `, ${sure(mean(here.map((c) => [c.confidence, c.bars])))}` : "";
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

/** The kick's level (hatched, dB) and pitch (line, log Hz) over its 400 ms. */
function kick() {
  const node = svg("detail-kick");
  const { width, height } = fresh(node);
  const portrait = survey.drums.kick;
  if (!portrait || !portrait.envelope_db.length) {
    node.append(text(0, 24, "no kick that could be told", { class: "s" }));
    return;
  }
  const floor = height - 16;
  const x = (ms) => (ms / 400) * width;
  const level = portrait.envelope_db.map((v, i) => [x((i / portrait.envelope_db.length) * 400), 2 + Math.min(1, -v / 48) * (floor - 2)]);
  const y = (hz) => 2 + (1 - Math.log(hz / 25) / Math.log(20)) * (floor - 2);
  for (const ms of [100, 200, 300]) node.append(el("line", { class: "grid", x1: x(ms), x2: x(ms), y1: 0, y2: floor }), text(x(ms), height - 3, `${ms} ms`, { class: "s", "text-anchor": "middle" }));
  node.append(...refCurve(level, floor));
  const pitch = portrait.pitch.map(([ms, hz]) => [x(ms), y(hz)]);
  if (pitch.length > 1) node.append(el("path", { class: "lookline", fill: "none", "stroke-width": 2, d: path(pitch) }));
}

function bass() {
  const node = svg("detail-bass");
  const { width, height } = fresh(node);
  const s = survey.sections[picked];
  const first = (s.start_bar - 1) * 4;
  const notes = survey.bass.filter(([start]) => start >= first && start < first + Math.min(16, s.bars * 4));
  if (!notes.length) {
    node.append(text(0, 24, "no bass here", { class: "s" }));
    document.getElementById("bass-sure").textContent = "";
    return;
  }
  document.getElementById("bass-sure").textContent = sure(mean(notes.map((n) => [n[6], n[1]])));
  // One lane per degree, octaves folded together: what the line does is read faster than where it lies.
  const lanes = [...new Map(notes.map(([, , midi, degree]) => [(midi + 120 - tonicClass(survey.key.tonic)) % 12, degree]))].sort((a, b) => a[0] - b[0]);
  const left = 28, lane = Math.min(22, (height - 16) / lanes.length);
  const x = (beat) => left + ((beat - first) / 16) * (width - left);
  const lanesY = new Map(lanes.map(([step], i) => [step, height - 16 - (i + 1) * lane]));
  for (const [step, degree] of lanes) {
    const y = lanesY.get(step);
    node.append(text(0, y + lane / 2 + 4, degree, { class: "s" }), el("line", { class: "grid", x1: left, x2: width, y1: y + lane, y2: y + lane }));
  }
  for (const [start, beats, midi, , name, slide, confidence] of notes) {
    const y = lanesY.get((midi + 120 - tonicClass(survey.key.tonic)) % 12);
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

function spectrum() {
  const node = svg("detail-spectrum");
  const { width, height } = fresh(node);
  const level = survey.spectrum.per_section[picked].level_db;
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

function width() {
  const node = svg("detail-width");
  const { width: wide, height } = fresh(node);
  const bands = survey.stereo.bands;
  const lane = (height - 4) / bands.length;
  const hz = (v) => (v >= 1000 ? `${v / 1000}k` : v);
  [...bands].reverse().forEach((b, i) => {
    const y = 2 + i * lane;
    node.append(text(0, y + lane / 2 + 3, `${hz(b.low_hz)}–${hz(b.high_hz)}`, { class: "s" }));
    node.append(el("rect", { fill: "none", class: "grid", x: 74, y: y + 3, width: wide - 112, height: lane - 7 }));
    node.append(el("rect", { class: "refbox", x: 74, y: y + 3, width: Math.max(1, (wide - 112) * Math.min(1, b.width)), height: lane - 7 }));
    node.append(text(wide - 32, y + lane / 2 + 3, b.width.toFixed(2)));
  });
}

let corrected = 0;

/** A correction: the grid moves at once, the rest follows when it is measured. Only the last one asked for is shown. */
async function correct(fields) {
  const says = document.getElementById("survey-says"), mine = ++corrected;
  says.textContent = "";
  const { ok, data } = await post(document.querySelector(".tools").dataset.correct, fields);
  if (!ok) {
    says.textContent = data.error;
    return;
  }
  player.replaceReference(data.reference);
  const place = document.getElementById("measuring"), progress = progressElement("Survey");
  if (mine === corrected) place.replaceChildren(progress);
  const job = await follow(data.job.id, progress);
  if (mine !== corrected) return;
  place.replaceChildren();
  if (job.state === "done") await refresh(() => mine === corrected);
  else says.textContent = job.message;
}

/** What the server has measured takes the place of what was there: figures, curves, the player's bars. What is typed stays. */
async function refresh(isWanted) {
  const answer = await fetch(location.pathname).catch(() => null);
  if (!answer?.ok || !isWanted()) return;
  const fresher = new DOMParser().parseFromString(await answer.text(), "text/html");
  const typed = [...document.querySelectorAll("[data-live] input")].filter((input) => input.value !== input.defaultValue).map((input) => [input.id, input.value]);
  const focused = document.activeElement?.id || document.activeElement?.getAttribute("aria-label");
  for (const part of document.querySelectorAll("[data-live]")) part.replaceWith(fresher.querySelector(`[data-live="${part.dataset.live}"]`));
  for (const [id, value] of typed) if (byId(id)) byId(id).value = value;
  const bar = survey.sections[picked].start_bar, count = survey.sections.length;
  survey = JSON.parse(fresher.getElementById("drawing").textContent);
  // The section that was chosen, or the one that lies there now.
  if (survey.sections.length !== count) picked = Math.max(0, survey.sections.findLastIndex((s) => s.start_bar <= bar));
  player.replaceReference(JSON.parse(fresher.getElementById("player-data").textContent).reference);
  drawAll();
  if (focused) (byId(focused) ?? [...document.querySelectorAll("[aria-label]")].find((n) => n.getAttribute("aria-label") === focused))?.focus();
}

const edited = () => survey.sections.map(({ label: kind, start_bar, bars }) => ({ label: kind, start_bar, bars }));

function correctSections(sections) {
  return correct({ what: "sections", sections: JSON.stringify(sections) });
}

document.getElementById("section-label").addEventListener("change", (event) => {
  const sections = edited();
  sections[picked].label = event.target.value;
  correctSections(sections);
});
document.getElementById("section-merge").addEventListener("click", () => {
  const sections = edited();
  sections[picked].bars += sections[picked + 1].bars;
  sections.splice(picked + 1, 1);
  correctSections(sections);
});
document.getElementById("section-split").addEventListener("click", () => {
  const sections = edited();
  const whole = sections[picked];
  const at = Math.round(player.position()) + 1;
  const inside = at > whole.start_bar && at < whole.start_bar + whole.bars;
  const bar = inside ? at : whole.start_bar + Math.floor(whole.bars / 2);
  const second = { label: whole.label, start_bar: bar, bars: whole.start_bar + whole.bars - bar };
  whole.bars = bar - whole.start_bar;
  sections.splice(picked + 1, 0, second);
  correctSections(sections);
});

// Listening aids.
const aid = (name) => document.getElementById(`aid-${name}`);
for (const name of ["click", "drone"]) {
  aid(name).addEventListener("click", () => {
    player.setAid(name, !player.aids[name]);
    aid(name).setAttribute("aria-pressed", String(player.aids[name]));
  });
}
aid("band").addEventListener("change", (event) => player.setAid("band", event.target.value));
function barHere() {
  const { beats, barS } = player.tracks.reference;
  const beat = Math.round(player.position() * beats);
  const seconds = survey.tempo.first_downbeat_s + (beat / beats) * barS;
  correct({ what: "bar-one", seconds: seconds.toFixed(5) });
}

function hearKick(button) {
  player.playOnce(button.dataset.url).catch(() => {
    document.getElementById("survey-says").textContent = "The kick could not be cut out of this track.";
  });
}
document.getElementById("beside")?.addEventListener("change", (event) => {
  if (event.target.value) location.assign(event.target.value);
});

// Tapping: the median of the last gaps; taken over when nothing was tapped for a while.
const taps = [];
let tapEnd = 0;
function tap() {
  const now = performance.now();
  if (taps.length && now - taps[taps.length - 1] > 2500) taps.length = 0;
  taps.push(now);
  const button = document.getElementById("tap");
  if (taps.length < 4) {
    button.textContent = `Tap ${4 - taps.length} more`;
  } else {
    const bpm = (60000 * (taps.length - 1)) / (taps[taps.length - 1] - taps[0]);
    button.textContent = bpm.toFixed(1);
    clearTimeout(tapEnd);
    tapEnd = setTimeout(() => correct({ what: "tapped", bpm: bpm.toFixed(2) }), 1800);
  }
}

document.addEventListener("keydown", (event) => {
  if (fieldOf(event.target) === "text" || event.altKey) return;
  const key = event.key.toLowerCase();
  if ((event.ctrlKey || event.metaKey) && key === "z") {
    event.preventDefault();
    document.querySelector("button[data-what=back]")?.click();
    return;
  }
  if (!isForPage(event)) return;
  if (key === "t") tap();
  if (key === "c") aid("click").click();
  if (key === "d") aid("drone").click();
  if (key === "b") {
    const order = ["", "low", "mid", "high"];
    aid("band").value = order[(order.indexOf(aid("band").value) + 1) % order.length];
    player.setAid("band", aid("band").value);
  }
});

// The figures come anew with every correction: what is pressed there is heard here.
const PRESSED = { tap, "bar-here": barHere, "hear-kick": hearKick, "pump-hear": hearPump };
byId("work").addEventListener("click", (event) => {
  const button = event.target.closest("button");
  if (button?.dataset.what && button.closest("[data-correct]")) correct({ ...button.dataset });
  else if (button) PRESSED[button.id]?.(button);
});
byId("work").addEventListener("submit", (event) => {
  if (!event.target.dataset.what) return;
  event.preventDefault();
  const fields = Object.fromEntries(new FormData(event.target));
  // Set: it is no longer what was only typed.
  for (const input of event.target.querySelectorAll("input")) input.defaultValue = input.value;
  correct({ what: event.target.dataset.what, ...fields });
});

function drawAll() {
  tempoEvidence();
  keyBars(svg("key-evidence"), survey.key);
  loudnessEvidence();
  pumpEvidence();
  score();
  details();
}

redrawn(drawAll);
