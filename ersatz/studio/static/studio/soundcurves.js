// @ts-check
// Curves of a sound's blocks: oscillators, filters, envelopes, LFOs, samples, and the handles on them.

import { BARS, byName, clamp, columns, ground, handle, response, spread } from "./curves.js";
import { el, ownCurve, path, text } from "./draw.js";

/** @typedef {import("./states").SoundState} SoundState */
/** @typedef {import("./states").BlockState} BlockState */
/** What the hands do with a block: a value set, several in one step, a value held, a shape drawn.
 *  @typedef {{ set: (name: string, value: number) => void, setAll: (values: Record<string, number>) => void, preview: (name: string, value: number) => void,
 *    shape: (name: string, points: number[]) => void }} BlockApi */

/** Everything that holds still: the curve of a block of the synthesiser. Returns false where there is none.
 *  @param {SVGSVGElement} svg
 *  @param {string} id
 *  @param {SoundState} sound
 *  @param {BlockApi | null} api
 *  @returns {boolean} */
export function drawBlock(svg, id, sound, api = null) {
  svg.onpointerdown = null;
  const { cycles = {}, responses = {}, envelopes = {}, lfos = {} } = sound.pictures, block = sound.blocks[id], { kind, number } = block;
  if (sound.pictures.hit) return drawHit(svg, sound.pictures.hit, sound.pictures.seconds ?? 0);
  /** @type {Record<string, () => boolean>} */
  const draws = {
    sample: () => drawSample(svg, kind, sound, api), time: () => drawSample(svg, kind, sound, api),
    loop: () => drawSample(svg, kind, sound, api), slices: () => drawSample(svg, kind, sound, api),
    oscillator: () => drawCycle(svg, cycles[id], number, block, api), filter: () => drawFilter(svg, responses[id], number, block, api),
    envelope: () => drawEnvelope(svg, envelopes[id], number, block, api), mix: () => drawMix(svg, sound), lfo: () => drawLfo(svg, lfos[id], id, sound, api),
  };
  return draws[kind]?.() ?? false;
}

/** The outline of one hit, lowest and highest per column.
 *  @param {SVGSVGElement} svg
 *  @param {number[][]} hit
 *  @param {number} seconds */
function drawHit(svg, hit, seconds) {
  const g = ground(svg, { l: 8, r: 8, t: 8, b: 20 });
  const most = Math.max(...hit.flat().map(Math.abs), 1e-6), middle = (g.top + g.bottom) / 2;
  const y = (/** @type {number} */ v) => middle - (v / most) * ((g.bottom - g.top) / 2);
  const x = (/** @type {number} */ i) => g.left + (i / (hit.length - 1)) * (g.right - g.left);
  const edge = [...hit.map(([, high], i) => [x(i), y(high)]), ...hit.map(([low], i) => [x(i), y(low)]).reverse()];
  svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: middle, y2: middle }), el("path", { class: "ownbox", d: `${path(edge)}Z` }));
  if (!g.small) svg.append(text(g.right, g.bottom + 15, `${Math.round(seconds * 1000)} ms`, { class: "s", "text-anchor": "end" }));
  return true;
}

/** @param {SVGSVGElement} svg
 *  @param {number[] | undefined} values
 *  @param {number} number
 *  @param {BlockState} block
 *  @param {BlockApi | null} api */
function drawCycle(svg, values, number, block, api) {
  if (!values) return false;
  const g = ground(svg, { l: 8, r: 8, t: 10, b: 10 });
  const y = (/** @type {number} */ v) => (g.top + g.bottom) / 2 - (clamp(v, -1.15, 1.15) / 1.15) * ((g.bottom - g.top) / 2);
  const silent = byName(block.params)[`osc${number}_level`].value === 0;
  svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: y(0), y2: y(0) }));
  const curve = ownCurve(spread([...values, values[0]], g.left, g.right, y));
  if (silent) curve.setAttribute("stroke-dasharray", "3 4");
  svg.append(curve);
  if (!api || g.small) return true;
  const wave = block.choices.find((c) => c.name.endsWith("wave"))?.value ?? "";
  const target = wave === "pulse" ? "width" : ["sine", "triangle", "saw"].includes(wave) ? null : "position";
  if (target) {
    const field = byName(block.params)[`osc${number}_${target}`];
    const at = (/** @type {number} */ v) => g.left + ((v - field.low) / (field.high - field.low)) * (g.right - g.left);
    let value = field.value;
    handle(svg, at(value), g.bottom - 6, field.title, (x) => {
      value = clamp(field.low + ((x - g.left) / (g.right - g.left)) * (field.high - field.low), field.low, field.high);
      api.preview(field.name, value);
      return value.toFixed(2);
    }, () => api.set(field.name, value));
  }
  return true;
}

/** What places a block of the sampler shows on the whole sample: [parameter, name], or lines at the slices.
 *  @type {Record<string, [string, string][]>} */
const PLACES = { sample: [["sample_start", "Start"], ["sample_end", "End"]], loop: [["loop_start", "Loop from"], ["loop_end", "Loop to"]] };

/** The whole sample; what isn't played is faint.
 *  @param {SVGSVGElement} svg
 *  @param {string} kind
 *  @param {SoundState} sound
 *  @param {BlockApi | null} api */
function drawSample(svg, kind, sound, api) {
  const { wave, seconds = 0, slices = [] } = sound.pictures;
  const g = ground(svg, { l: 8, r: 8, t: 20, b: 20 });
  if (!wave) {
    svg.append(text((g.left + g.right) / 2, (g.top + g.bottom) / 2 + 4, sound.gone.length ? "gone" : "none", { class: "s", "text-anchor": "middle" }));
    return true;
  }
  const values = byName(["sample", "loop"].flatMap((t) => sound.blocks[t].params));
  const [start, end] = [values.sample_start.value, values.sample_end.value].sort((a, b) => a - b);
  const most = Math.max(...wave.flat().map(Math.abs), 1e-6), middle = (g.top + g.bottom) / 2;
  const x = (/** @type {number} */ place) => g.left + place * (g.right - g.left), y = (/** @type {number} */ v) => middle - (v / most) * ((g.bottom - g.top) / 2);
  const outline = (/** @type {number} */ from, /** @type {number} */ to) => {
    const part = wave.map(([low, high], i) => ({ place: i / wave.length, low, high })).filter(({ place }) => place >= from && place < to);
    return part.length < 2 ? "" : `${path([...part.map(({ place, high }) => [x(place), y(high)]), ...part.map(({ place, low }) => [x(place), y(low)]).reverse()])}Z`;
  };
  svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: middle, y2: middle }));
  for (const [from, to] of [[0, start], [end, 1]]) if (to - from > 0.004) svg.append(el("path", { class: "unplayed", d: outline(from, to) }));
  svg.append(el("path", { class: "ownbox", d: outline(start, end) }));
  if (kind === "slices") slices.slice(0, -1).forEach((place, i) => {
    svg.append(el("line", { class: "cut", x1: x(place), x2: x(place), y1: g.top - (g.small ? 0 : 6), y2: g.bottom }));
    const wide = x(slices[i + 1]) - x(place);
    if (!g.small && wide > 16) svg.append(text(x(place) + 2, g.top - 8, i + 1, { class: "s" }));
  });
  // A loop's places are counted within what is played.
  const inside = kind === "loop" ? [start, end - start] : [0, 1];
  const at = (/** @type {number} */ v) => x(inside[0] + v * inside[1]);
  const lines = (PLACES[kind] ?? []).map(([name]) => {
    const line = el("line", { class: "cut", x1: at(values[name].value), x2: at(values[name].value), y1: g.top, y2: g.bottom });
    if (kind !== "loop" || sound.blocks.loop.choices[0].value !== "off") svg.append(line);
    return line;
  });
  if (g.small) return true;
  svg.append(text(g.left, g.bottom + 15, "0", { class: "s" }), text(g.right, g.bottom + 15, seconds < 1 ? `${Math.round(seconds * 1000)} ms` : `${seconds.toFixed(2)} s`, { class: "s", "text-anchor": "end" }));
  if (!api) return true;
  (PLACES[kind] ?? []).forEach(([name, said], i) => {
    let value = values[name].value;
    handle(svg, at(value), i ? g.bottom - 8 : g.top + 8, said, (px) => {
      value = clamp(((px - g.left) / (g.right - g.left) - inside[0]) / Math.max(inside[1], 1e-6), 0, 1);
      for (const end of ["x1", "x2"]) lines[i].setAttribute(end, String(at(value)));
      return `${(value * (kind === "loop" ? (end - start) : 1) * seconds).toFixed(3)} s`;
    }, () => api.set(name, value));
  });
  return true;
}

/** Levels of what is mixed, as bars.
 *  @param {SVGSVGElement} svg
 *  @param {SoundState} sound */
function drawMix(svg, sound) {
  if (!sound.blocks.osc1) return false;
  const of = (/** @type {string} */ id, /** @type {string} */ name) => byName(sound.blocks[id].params)[name].value;
  /** @type {[string, number][]} */
  const levels = [["1", of("osc1", "osc1_level")], ["2", of("osc2", "osc2_level")], ["1 × 2", of("mix", "ring")], ["sub", of("mix", "sub_level")], ["noise", of("mix", "noise_level")]];
  const g = ground(svg, { l: 10, r: 10, t: 12, b: 22 });
  const width = (g.right - g.left) / levels.length;
  levels.forEach(([name, level], i) => {
    const height = Math.max(1.5, level * (g.bottom - g.top));
    svg.append(el("rect", { class: "ownbox", x: g.left + i * width + width * 0.2, width: width * 0.6, y: g.bottom - height, height }));
    if (!g.small) svg.append(text(g.left + (i + 0.5) * width, g.bottom + 15, name, { class: "s", "text-anchor": "middle" }));
  });
  return true;
}

/** @param {SVGSVGElement} svg
 *  @param {number[] | null | undefined} values
 *  @param {number} number
 *  @param {BlockState} block
 *  @param {BlockApi | null} api */
function drawFilter(svg, values, number, block, api) {
  if (!values) {
    const g = ground(svg, { l: 8, r: 8, t: 8, b: 8 });
    svg.append(text((g.left + g.right) / 2, (g.top + g.bottom) / 2 + 4, "off", { class: "s", "text-anchor": "middle" }));
    return true;
  }
  const g = response(svg, values, -48, 24);
  if (!api || g.small) return true;
  const fields = byName(block.params);
  const hz = fields[`filter${number}_hz`], resonance = fields[`filter${number}_resonance`];
  const high = g.y(24), low = g.y(-24);
  let now = [hz.value, resonance.value];
  handle(svg, g.x(hz.value), low + (high - low) * resonance.value, "Cutoff and resonance", (x, y) => {
    now = [g.hz(x), clamp((y - low) / (high - low), 0, 1)];
    api.preview(hz.name, now[0]);
    return `${Math.round(now[0])} Hz, resonance ${now[1].toFixed(2)}`;
  }, () => api.setAll({
    ...(Math.abs(now[0] / hz.value - 1) > 1e-3 && { [hz.name]: now[0] }),
    ...(Math.abs(now[1] - resonance.value) > 5e-3 && { [resonance.name]: now[1] }),
  }));
  return true;
}

/** @param {SVGSVGElement} svg
 *  @param {import("./states").EnvelopePicture} curve
 *  @param {number} number
 *  @param {BlockState} block
 *  @param {BlockApi | null} api */
function drawEnvelope(svg, curve, number, block, api) {
  const g = ground(svg, { l: 10, r: 14, t: 10, b: 20 });
  const x = (/** @type {number} */ s) => g.left + (s / curve.seconds) * (g.right - g.left), y = (/** @type {number} */ v) => g.bottom - v * (g.bottom - g.top);
  svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: g.bottom, y2: g.bottom }));
  svg.append(ownCurve(spread(curve.values, g.left, g.right, y)));
  if (g.small) return true;
  const { attack, decay, held, end, sustain } = curve.stages;
  for (const [s, name] of /** @type {[number, string][]} */ ([[attack, "attack"], [decay, "decay"], [held, "let go"], [end, ""]])) {
    svg.append(el("line", { class: "grid", x1: x(s), x2: x(s), y1: g.top, y2: g.bottom }));
    if (name && x(s) - g.left > 24) svg.append(text(x(s), g.bottom + 14, name, { class: "s", "text-anchor": "middle" }));
  }
  svg.append(text(g.right, g.top + 4, curve.seconds < 1 ? `${Math.round(curve.seconds * 1000)} ms` : `${curve.seconds.toFixed(2)} s`, { class: "s", "text-anchor": "end" }));
  if (!api) return true;
  const fields = byName(block.params), name = (/** @type {string} */ part) => `env${number}_${part}`;
  const seconds = (/** @type {number} */ px) => ((px - g.left) / (g.right - g.left)) * curve.seconds;
  /** @type {Record<string, number>} */
  const put = {};
  const change = (/** @type {string} */ part, /** @type {number} */ value) => {
    const f = fields[name(part)];
    put[f.name] = clamp(value, f.low, f.high);
    api.preview(f.name, put[f.name]);
    return `${f.title} ${put[f.name].toPrecision(3)} ${f.unit}`;
  };
  const done = () => api.setAll(put);
  const hold = fields[name("hold_ms")].value / 1000;
  handle(svg, x(attack), y(1), "Attack", (px) => change("attack_ms", Math.max(0, seconds(px)) * 1000), done);
  handle(svg, x(decay), y(sustain), "Decay and sustain", (px, py) => {
    const said = change("decay_ms", Math.max(0.001, seconds(px) - attack - hold) * 1000);
    return `${said}, ${change("sustain", (g.bottom - py) / (g.bottom - g.top))}`;
  }, done);
  handle(svg, x(end), y(0), "Release", (px) => change("release_ms", Math.max(0.001, seconds(px) - held) * 1000), done);
  return true;
}

/** @param {SVGSVGElement} svg
 *  @param {number[]} values
 *  @param {string} id
 *  @param {SoundState} sound
 *  @param {BlockApi | null} api */
function drawLfo(svg, values, id, sound, api) {
  const block = sound.blocks[id];
  const drawn = block.choices.find((c) => c.name.endsWith("shape"))?.value === "drawn";
  if (drawn) {
    const points = sound.shapes[id] ?? [];
    const start = Array.from({ length: BARS }, (_, i) => points[Math.floor((i / BARS) * points.length)] ?? 0);
    columns(svg, start, -1, 1, (shape) => api?.shape(id, shape));
    return true;
  }
  const g = ground(svg, { l: 8, r: 8, t: 10, b: 10 });
  const y = (/** @type {number} */ v) => (g.top + g.bottom) / 2 - v * ((g.bottom - g.top) / 2);
  svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: y(0), y2: y(0) }), ownCurve(spread([...values, values[0]], g.left, g.right, y)));
  return true;
}
