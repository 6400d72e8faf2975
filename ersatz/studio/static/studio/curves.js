// Curves of sounds and effects, and handles on them: points that are dragged, or moved with the arrow keys.

import { drag } from "./drag.js";
import { el, frequencyAxis, fresh, ownCurve, path, svgOf, text } from "./draw.js";

const LOW = 20, HIGH = 20000, BARS = 16;
const clamp = (value, low, high) => Math.min(high, Math.max(low, value));
const spread = (values, left, right, y) => values.map((v, i) => [left + (i / (values.length - 1)) * (right - left), y(v)]);

/** A point to take hold of. `move(x, y)` in pixels while it is dragged or stepped, `done()` when it is let go. */
function handle(svg, x, y, name, move, done) {
  const node = el("circle", { class: "handle", cx: x, cy: y, r: 6, tabindex: 0, role: "slider", "aria-label": name, "aria-valuenow": 0 }, el("title", {}, `${name}: drag, or step with the arrow keys`));
  const go = (px, py) => {
    node.setAttribute("cx", px);
    node.setAttribute("cy", py);
    node.setAttribute("aria-valuetext", move(px, py) ?? "");
  };
  const place = (event) => {
    const box = svg.getBoundingClientRect();
    const view = svg.viewBox.baseVal;
    return [((event.clientX - box.left) / box.width) * view.width, ((event.clientY - box.top) / box.height) * view.height];
  };
  node.addEventListener("pointerdown", (event) => {
    const was = [Number(node.getAttribute("cx")), Number(node.getAttribute("cy"))];
    drag(event, node, { move: (e) => go(...place(e)), done: (kept) => { if (!kept) go(...was); done(); } });
  });
  node.addEventListener("keydown", (event) => {
    const by = { ArrowLeft: [-4, 0], ArrowRight: [4, 0], ArrowUp: [0, -4], ArrowDown: [0, 4] }[event.key];
    if (!by) return;
    event.preventDefault();
    go(Number(node.getAttribute("cx")) + by[0], Number(node.getAttribute("cy")) + by[1]);
    done();
  });
  svg.append(node);
  return node;
}

const byName = (fields) => Object.fromEntries(fields.map((f) => [f.name, f]));

/** Frame of a picture: size, and a left margin that holds the figures of its axis. */
function ground(svg, margin) {
  const { width, height } = fresh(svg);
  const small = width < 200;
  const m = small ? { l: 2, r: 2, t: 3, b: 3 } : margin;
  return { small, left: m.l, right: width - m.r, top: m.t, bottom: height - m.b };
}

function response(svg, values, low, high) {
  const g = ground(svg, { l: 34, r: 8, t: 8, b: 18 });
  const y = (db) => g.top + ((high - clamp(db, low, high)) / (high - low)) * (g.bottom - g.top);
  const axis = frequencyAxis(g.left, g.right, LOW, HIGH, g.top, g.bottom);
  if (!g.small) {
    svg.append(...axis.grid);
    for (let db = Math.ceil(low / 12) * 12; db <= high; db += 12) svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: y(db), y2: y(db) }), text(g.left - 4, y(db) + 4, db > 0 ? `+${db}` : String(db).replace("-", "−"), { class: "s", "text-anchor": "end" }));
  } else svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: y(0), y2: y(0) }));
  svg.append(ownCurve(spread(values, g.left, g.right, y)));
  return { ...g, x: axis.x, y, hz: (x) => clamp(LOW * (HIGH / LOW) ** ((x - g.left) / (g.right - g.left)), LOW, HIGH), db: (py) => clamp(high - ((py - g.top) / (g.bottom - g.top)) * (high - low), low, high) };
}

/** Drawn curve as columns: paint with the pointer, or step each with the arrow keys. Values run from `low` to `high`. */
function columns(svg, values, low, high, changed, done) {
  const g = ground(svg, { l: 8, r: 8, t: 8, b: 8 });
  const n = values.length, width = (g.right - g.left) / n;
  const y = (v) => g.top + ((high - v) / (high - low)) * (g.bottom - g.top);
  const rects = values.map((v, i) => el("rect", { class: "column", x: g.left + i * width + 1, width: Math.max(1, width - 2), tabindex: g.small ? -1 : 0, role: "slider", "aria-label": `Step ${i + 1} of ${n}`, "aria-valuemin": low, "aria-valuemax": high }));
  const set = (i, v) => {
    values[i] = Math.round(clamp(v, low, high) * 100) / 100;
    const from = y(Math.max(0, low)), to = y(values[i]);
    rects[i].setAttribute("y", Math.min(from, to));
    rects[i].setAttribute("height", Math.max(2, Math.abs(to - from)));
    rects[i].setAttribute("aria-valuenow", values[i]);
  };
  values.forEach((v, i) => set(i, v));
  svg.append(el("rect", { class: "hit", x: g.left, y: g.top, width: g.right - g.left, height: g.bottom - g.top }), ...rects);
  if (g.small) return;
  const paint = (event) => {
    const box = svg.getBoundingClientRect(), view = svg.viewBox.baseVal;
    const i = Math.floor((((event.clientX - box.left) / box.width) * view.width - g.left) / width);
    const py = ((event.clientY - box.top) / box.height) * view.height;
    if (i >= 0 && i < n) set(i, high - ((py - g.top) / (g.bottom - g.top)) * (high - low));
    changed?.(values);
  };
  svg.onpointerdown = (event) => {
    const was = [...values];
    paint(event);
    drag(event, svg, { move: paint, done: (kept) => { if (!kept) was.forEach((v, i) => set(i, v)); done(values); } });
  };
  rects.forEach((rect, i) => rect.addEventListener("keydown", (event) => {
    const by = { ArrowUp: 0.05, ArrowDown: -0.05 }[event.key];
    if (!by) return;
    event.preventDefault();
    set(i, values[i] + by * (high - low));
    done(values);
  }));
}

/** Everything that holds still: the curve of a block of the synthesiser. Returns false where there is none. */
export function drawBlock(svg, title, sound, api = null) {
  svg.onpointerdown = null;
  const { cycles = {}, responses = {}, envelopes = {}, lfos = {} } = sound.pictures;
  if (sound.pictures.hit) return drawHit(svg, sound.pictures);
  if (["Sample", "Time", "Loop", "Slices"].includes(title)) return drawSample(svg, title, sound, api);
  const number = title.match(/\d/)?.[0];
  if (title.startsWith("Oscillator")) return drawCycle(svg, cycles[`osc${number}`], number, sound.blocks[title], api);
  if (title.startsWith("Filter")) return drawFilter(svg, responses[`filter${number}`], number, sound.blocks[title], api);
  if (title.startsWith("Envelope")) return drawEnvelope(svg, envelopes[`env${number}`], number, sound.blocks[title], api);
  if (title === "Mix and drive") return drawMix(svg, sound);
  if (title.startsWith("LFO")) return drawLfo(svg, lfos[`lfo${number}`], number, sound, api);
  return false;
}

/** The outline of one hit. */
function drawHit(svg, { hit, seconds }) {
  const g = ground(svg, { l: 8, r: 8, t: 8, b: 20 });
  const most = Math.max(...hit.flat().map(Math.abs), 1e-6), middle = (g.top + g.bottom) / 2;
  const y = (v) => middle - (v / most) * ((g.bottom - g.top) / 2);
  const x = (i) => g.left + (i / (hit.length - 1)) * (g.right - g.left);
  const edge = [...hit.map(([, high], i) => [x(i), y(high)]), ...hit.map(([low], i) => [x(i), y(low)]).reverse()];
  svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: middle, y2: middle }), el("path", { class: "ownbox", d: `${path(edge)}Z` }));
  if (!g.small) svg.append(text(g.right, g.bottom + 15, `${Math.round(seconds * 1000)} ms`, { class: "s", "text-anchor": "end" }));
  return true;
}

function drawCycle(svg, values, number, block, api) {
  if (!values) return false;
  const g = ground(svg, { l: 8, r: 8, t: 10, b: 10 });
  const y = (v) => (g.top + g.bottom) / 2 - (clamp(v, -1.15, 1.15) / 1.15) * ((g.bottom - g.top) / 2);
  const silent = byName(block.params)[`osc${number}_level`].value === 0;
  svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: y(0), y2: y(0) }));
  const curve = ownCurve(spread([...values, values[0]], g.left, g.right, y));
  if (silent) curve.setAttribute("stroke-dasharray", "3 4");
  svg.append(curve);
  if (!api || g.small) return true;
  const wave = block.choices.find((c) => c.name.endsWith("wave")).value;
  const target = wave === "pulse" ? "width" : ["sine", "triangle", "saw"].includes(wave) ? null : "position";
  if (target) {
    const field = byName(block.params)[`osc${number}_${target}`];
    const at = (v) => g.left + ((v - field.low) / (field.high - field.low)) * (g.right - g.left);
    let value = field.value;
    handle(svg, at(value), g.bottom - 6, field.title, (x) => {
      value = clamp(field.low + ((x - g.left) / (g.right - g.left)) * (field.high - field.low), field.low, field.high);
      api.preview(field.name, value);
      return value.toFixed(2);
    }, () => api.set(field.name, value));
  }
  return true;
}

/** What places a block of the sampler shows on the whole sample: [parameter, name], or lines at the slices. */
const PLACES = { Sample: [["sample_start", "Start"], ["sample_end", "End"]], Loop: [["loop_start", "Loop from"], ["loop_end", "Loop to"]] };

/** The whole sample; what isn't played is faint. */
function drawSample(svg, title, sound, api) {
  const { wave, seconds, slices } = sound.pictures;
  const g = ground(svg, { l: 8, r: 8, t: 20, b: 20 });
  if (!wave) {
    svg.append(text((g.left + g.right) / 2, (g.top + g.bottom) / 2 + 4, sound.gone.length ? "gone" : "none", { class: "s", "text-anchor": "middle" }));
    return true;
  }
  const values = Object.fromEntries(["Sample", "Loop"].flatMap((t) => sound.blocks[t].params.map((f) => [f.name, f])));
  const [start, end] = [values.sample_start.value, values.sample_end.value].sort((a, b) => a - b);
  const most = Math.max(...wave.flat().map(Math.abs), 1e-6), middle = (g.top + g.bottom) / 2;
  const x = (place) => g.left + place * (g.right - g.left), y = (v) => middle - (v / most) * ((g.bottom - g.top) / 2);
  const outline = (from, to) => {
    const part = wave.map((pair, i) => [i / wave.length, pair]).filter(([place]) => place >= from && place < to);
    return part.length < 2 ? "" : `${path([...part.map(([place, [, high]]) => [x(place), y(high)]), ...part.map(([place, [low]]) => [x(place), y(low)]).reverse()])}Z`;
  };
  svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: middle, y2: middle }));
  for (const [from, to] of [[0, start], [end, 1]]) if (to - from > 0.004) svg.append(el("path", { class: "unplayed", d: outline(from, to) }));
  svg.append(el("path", { class: "ownbox", d: outline(start, end) }));
  if (title === "Slices") slices.slice(0, -1).forEach((place, i) => {
    svg.append(el("line", { class: "cut", x1: x(place), x2: x(place), y1: g.top - (g.small ? 0 : 6), y2: g.bottom }));
    const wide = x(slices[i + 1]) - x(place);
    if (!g.small && wide > 16) svg.append(text(x(place) + 2, g.top - 8, i + 1, { class: "s" }));
  });
  // A loop's places are counted within what is played.
  const inside = title === "Loop" ? [start, end - start] : [0, 1];
  const at = (v) => x(inside[0] + v * inside[1]);
  const lines = (PLACES[title] ?? []).map(([name]) => {
    const line = el("line", { class: "cut", x1: at(values[name].value), x2: at(values[name].value), y1: g.top, y2: g.bottom });
    if (title !== "Loop" || sound.blocks.Loop.choices[0].value !== "off") svg.append(line);
    return line;
  });
  if (g.small) return true;
  svg.append(text(g.left, g.bottom + 15, "0", { class: "s" }), text(g.right, g.bottom + 15, seconds < 1 ? `${Math.round(seconds * 1000)} ms` : `${seconds.toFixed(2)} s`, { class: "s", "text-anchor": "end" }));
  if (!api) return true;
  (PLACES[title] ?? []).forEach(([name, said], i) => {
    let value = values[name].value;
    handle(svg, at(value), i ? g.bottom - 8 : g.top + 8, said, (px) => {
      value = clamp(((px - g.left) / (g.right - g.left) - inside[0]) / Math.max(inside[1], 1e-6), 0, 1);
      for (const end of ["x1", "x2"]) lines[i].setAttribute(end, at(value));
      return `${(value * (title === "Loop" ? (end - start) : 1) * seconds).toFixed(3)} s`;
    }, () => api.set(name, value));
  });
  return true;
}

/** Levels of what is mixed, as bars. */
function drawMix(svg, sound) {
  if (!sound.blocks["Oscillator 1"]) return false;
  const of = (title, name) => byName(sound.blocks[title].params)[name].value;
  const levels = [["1", of("Oscillator 1", "osc1_level")], ["2", of("Oscillator 2", "osc2_level")], ["1 × 2", of("Mix and drive", "ring")], ["sub", of("Mix and drive", "sub_level")], ["noise", of("Mix and drive", "noise_level")]];
  const g = ground(svg, { l: 10, r: 10, t: 12, b: 22 });
  const width = (g.right - g.left) / levels.length;
  levels.forEach(([name, level], i) => {
    const height = Math.max(1.5, level * (g.bottom - g.top));
    svg.append(el("rect", { class: "ownbox", x: g.left + i * width + width * 0.2, width: width * 0.6, y: g.bottom - height, height }));
    if (!g.small) svg.append(text(g.left + (i + 0.5) * width, g.bottom + 15, name, { class: "s", "text-anchor": "middle" }));
  });
  return true;
}

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

function drawEnvelope(svg, curve, number, block, api) {
  const g = ground(svg, { l: 10, r: 14, t: 10, b: 20 });
  const x = (s) => g.left + (s / curve.seconds) * (g.right - g.left), y = (v) => g.bottom - v * (g.bottom - g.top);
  svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: g.bottom, y2: g.bottom }));
  svg.append(ownCurve(spread(curve.values, g.left, g.right, y)));
  if (g.small) return true;
  const { attack, decay, held, end, sustain } = curve.stages;
  for (const [s, name] of [[attack, "attack"], [decay, "decay"], [held, "let go"], [end, ""]]) {
    svg.append(el("line", { class: "grid", x1: x(s), x2: x(s), y1: g.top, y2: g.bottom }));
    if (name && x(s) - g.left > 24) svg.append(text(x(s), g.bottom + 14, name, { class: "s", "text-anchor": "middle" }));
  }
  svg.append(text(g.right, g.top + 4, curve.seconds < 1 ? `${Math.round(curve.seconds * 1000)} ms` : `${curve.seconds.toFixed(2)} s`, { class: "s", "text-anchor": "end" }));
  if (!api) return true;
  const fields = byName(block.params), name = (part) => `env${number}_${part}`;
  const seconds = (px) => ((px - g.left) / (g.right - g.left)) * curve.seconds;
  const put = {};
  const change = (part, value) => {
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

function drawLfo(svg, values, number, sound, api) {
  const block = sound.blocks[`LFO ${number}`];
  const drawn = block.choices.find((c) => c.name.endsWith("shape")).value === "drawn";
  if (drawn) {
    const points = sound.shapes[`lfo${number}`] ?? [];
    const start = Array.from({ length: BARS }, (_, i) => points[Math.floor((i / BARS) * points.length)] ?? 0);
    columns(svg, start, -1, 1, null, (shape) => api?.shape(`lfo${number}`, shape));
    return true;
  }
  const g = ground(svg, { l: 8, r: 8, t: 10, b: 10 });
  const y = (v) => (g.top + g.bottom) / 2 - v * ((g.bottom - g.top) / 2);
  svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: y(0), y2: y(0) }), ownCurve(spread([...values, values[0]], g.left, g.right, y)));
  return true;
}

/** The curve of an effect. Returns false where none would tell. */
export function drawEffect(svg, effect, api = null) {
  svg.onpointerdown = null;
  const picture = effect.picture;
  if (!picture) return false;
  if (picture.kind === "response") {
    const g = response(svg, picture.values, effect.kind === "eq" ? -24 : -48, 24);
    if (api && !g.small) (effect.kind === "eq" ? eqHandles : sweepHandle)(svg, effect, g, api);
    return true;
  }
  if (picture.kind === "gain" && api && (effect.kind === "ducker" || effect.choices.shape === "drawn")) {
    const count = effect.kind === "ducker" ? 32 : BARS;
    const shape = effect.shape.length ? effect.shape : picture.values.map((v) => (effect.kind === "ducker" ? 1 - v : v));
    const start = Array.from({ length: count }, (_, i) => shape[Math.floor((i / count) * shape.length)] ?? 0);
    columns(svg, start, 0, 1, null, (values) => api.shape(effect.kind === "ducker" ? values.flatMap((v) => [v, v]) : values));
    return true;
  }
  const levels = picture.kind === "levels";
  const g = ground(svg, levels ? { l: 34, r: 8, t: 8, b: 18 } : { l: 10, r: 10, t: 8, b: 8 });
  const [low, high] = levels ? [-60, 6] : picture.kind === "gain" ? [0, 1.05] : [-1.2, 1.2];
  const y = (v) => g.top + ((high - clamp(v, low, high)) / (high - low)) * (g.bottom - g.top);
  const x = (db) => g.left + ((db + 60) / 60) * (g.right - g.left);
  if (levels) {
    svg.append(el("line", { class: "grid", x1: x(-60), y1: y(-60), x2: x(0), y2: y(0) }));
    if (!g.small) for (const db of [-48, -36, -24, -12, 0]) svg.append(text(g.left - 4, y(db) + 4, String(db).replace("-", "−"), { class: "s", "text-anchor": "end" }), text(x(db), g.bottom + 14, String(db).replace("-", "−"), { class: "s", "text-anchor": "middle" }));
  }
  svg.append(ownCurve(spread(picture.values, g.left, g.right, y)));
  if (levels && api && !g.small) {
    const field = effect.fields.find((f) => f.name === "threshold_db");
    let value = field.value;
    handle(svg, x(value), y(value), "Threshold", (px) => {
      value = clamp(((px - g.left) / (g.right - g.left)) * 60 - 60, field.low, field.high);
      api.preview({ threshold_db: value });
      return `${value.toFixed(1)} dB`;
    }, () => api.params({ threshold_db: value }));
  }
  return true;
}

function eqHandles(svg, effect, g, api) {
  const fields = byName(effect.fields);
  effect.options.forEach((option) => {
    const band = option.name.match(/^band(\d)_kind$/)?.[1];
    if (!band || option.value === "off") return;
    const gains = !option.value.includes("cut");
    const hz = fields[`band${band}_hz`], db = fields[`band${band}_db`];
    let now = {};
    handle(svg, g.x(hz.value), g.y(gains ? db.value : 0), `Band ${band}, ${option.value}`, (x, y) => {
      now = { [hz.name]: g.hz(x), ...(gains ? { [db.name]: clamp(g.db(y), db.low, db.high) } : {}) };
      api.preview(now);
      return `${Math.round(now[hz.name])} Hz${gains ? `, ${now[db.name].toFixed(1)} dB` : ""}`;
    }, () => api.params(now));
    svg.append(text(g.x(hz.value), g.y(gains ? db.value : 0) - 10, band, { class: "s", "text-anchor": "middle" }));
  });
}

function sweepHandle(svg, effect, g, api) {
  const fields = byName(effect.fields);
  const high = g.y(24), low = g.y(-24);
  let now = {};
  handle(svg, g.x(fields.cutoff_hz.value), low + (high - low) * fields.resonance.value, "Cutoff and resonance", (x, y) => {
    now = { cutoff_hz: g.hz(x), resonance: clamp((y - low) / (high - low), 0, 1) };
    api.preview(now);
    return `${Math.round(now.cutoff_hz)} Hz`;
  }, () => api.params(now));
}

/** Only the curve beneath the handle that is held: the old handles stay where the pointer has them. */
export function redrawCurve(box, drawing) {
  const svg = box.querySelector("svg.large");
  if (!svg) return;
  const ghost = svgOf("large ghost");
  svg.after(ghost);
  drawing(ghost);
  const fresher = ghost.querySelector(".ownline, path.ownbox");
  const old = svg.querySelector(".ownline, path.ownbox");
  if (fresher && old) old.setAttribute("d", fresher.getAttribute("d"));
  ghost.remove();
}
