// @ts-check
// Curves of effects, and what they share with those of sounds: grounds, columns, and handles that are dragged or moved with the arrow keys.

import { drag } from "./drag.js";
import { el, frequencyAxis, fresh, ownCurve, svgOf, text } from "./draw.js";
import { grip } from "./handle.js";

const LOW = 20, HIGH = 20000;
export const BARS = 16;
/** Frame of a picture in pixels; `small`: too small for figures and handles.
 *  @typedef {{ small: boolean, left: number, right: number, top: number, bottom: number }} Ground */
/** A frame with the scales of a frequency response.
 *  @typedef {Ground & { x: (hz: number) => number, y: (db: number) => number, hz: (x: number) => number, db: (y: number) => number }} Response */
/** What the hands do with an effect: figures set, figures held, a shape drawn.
 *  @typedef {{ params: (values: Record<string, number>) => void, preview: (values: Record<string, number>) => void, shape: (points: number[]) => void }} EffectApi */
/** @typedef {import("./states").EffectState} EffectState */
/** @typedef {import("./states").Figure} Figure */

export const clamp = (/** @type {number} */ value, /** @type {number} */ low, /** @type {number} */ high) => Math.min(high, Math.max(low, value));
/** Values as points from `left` to `right`.
 *  @param {number[]} values
 *  @param {number} left
 *  @param {number} right
 *  @param {(value: number) => number} y
 *  @returns {import("./draw.js").Point[]} */
export const spread = (values, left, right, y) => values.map((v, i) => [left + (i / (values.length - 1)) * (right - left), y(v)]);

const NUDGE_PX = 4;
/** @type {Record<string, number>} */
const STEPS = { ArrowUp: 0.05, ArrowDown: -0.05 };

/** Where a pointer is, in the picture's own pixels.
 *  @param {SVGSVGElement} svg
 *  @param {PointerEvent} event
 *  @returns {[number, number]} */
function pointIn(svg, event) {
  const box = svg.getBoundingClientRect(), view = svg.viewBox.baseVal;
  return [((event.clientX - box.left) / box.width) * view.width, ((event.clientY - box.top) / box.height) * view.height];
}

/** A point to take hold of. `move(x, y)` in pixels while it is dragged or stepped, `done()` when it is let go.
 *  @param {SVGSVGElement} svg
 *  @param {number} x
 *  @param {number} y
 *  @param {string} name
 *  @param {(x: number, y: number) => string} move
 *  @param {() => void} done */
export function handle(svg, x, y, name, move, done) {
  const node = el("circle", { class: "handle", cx: x, cy: y, r: 6, "aria-valuenow": 0 }, el("title", {}, `${name}: drag, or step with the arrow keys`));
  const go = (/** @type {number} */ px, /** @type {number} */ py) => {
    node.setAttribute("cx", String(px));
    node.setAttribute("cy", String(py));
    node.setAttribute("aria-valuetext", move(px, py));
  };
  grip(node, {
    name, done,
    move: (event) => {
      const [px, py] = pointIn(svg, event);
      go(px, py);
    },
    // Its preview is taken back with it.
    giveUp: () => {
      go(x, y);
      done();
    },
    step: (right, up) => {
      go(Number(node.getAttribute("cx")) + NUDGE_PX * right, Number(node.getAttribute("cy")) - NUDGE_PX * up);
      done();
      return true;
    },
  });
  svg.append(node);
  return node;
}

/** @returns {Record<string, Figure>} */
export const byName = (/** @type {Figure[]} */ fields) => Object.fromEntries(fields.map((f) => [f.name, f]));

/** Frame of a picture: size, and a left margin that holds the figures of its axis.
 *  @param {SVGElement} svg
 *  @param {{ l: number, r: number, t: number, b: number }} margin
 *  @returns {Ground} */
export function ground(svg, margin) {
  const { width, height } = fresh(svg);
  const small = width < 200;
  const m = small ? { l: 2, r: 2, t: 3, b: 3 } : margin;
  return { small, left: m.l, right: width - m.r, top: m.t, bottom: height - m.b };
}

/** A frequency response in dB over 20 Hz to 20 kHz.
 *  @param {SVGElement} svg
 *  @param {number[]} values
 *  @param {number} low
 *  @param {number} high
 *  @returns {Response} */
export function response(svg, values, low, high) {
  const g = ground(svg, { l: 34, r: 8, t: 8, b: 18 });
  const y = (/** @type {number} */ db) => g.top + ((high - clamp(db, low, high)) / (high - low)) * (g.bottom - g.top);
  const axis = frequencyAxis(g.left, g.right, LOW, HIGH, g.top, g.bottom);
  if (!g.small) {
    svg.append(...axis.grid);
    for (let db = Math.ceil(low / 12) * 12; db <= high; db += 12) svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: y(db), y2: y(db) }), text(g.left - 4, y(db) + 4, db > 0 ? `+${db}` : String(db).replace("-", "−"), { class: "s", "text-anchor": "end" }));
  } else svg.append(el("line", { class: "grid", x1: g.left, x2: g.right, y1: y(0), y2: y(0) }));
  svg.append(ownCurve(spread(values, g.left, g.right, y)));
  return { ...g, x: axis.x, y, hz: (/** @type {number} */ x) => clamp(LOW * (HIGH / LOW) ** ((x - g.left) / (g.right - g.left)), LOW, HIGH), db: (/** @type {number} */ py) => clamp(high - ((py - g.top) / (g.bottom - g.top)) * (high - low), low, high) };
}

/** Drawn curve as columns: paint with the pointer, or step each with the arrow keys. Values run from `low` to `high`.
 *  @param {SVGSVGElement} svg
 *  @param {number[]} values
 *  @param {number} low
 *  @param {number} high
 *  @param {(values: number[]) => void} done */
export function columns(svg, values, low, high, done) {
  const g = ground(svg, { l: 8, r: 8, t: 8, b: 8 });
  const n = values.length, width = (g.right - g.left) / n;
  const y = (/** @type {number} */ v) => g.top + ((high - v) / (high - low)) * (g.bottom - g.top);
  const rects = values.map((v, i) => el("rect", { class: "column", x: g.left + i * width + 1, width: Math.max(1, width - 2), tabindex: g.small ? -1 : 0, role: "slider", "aria-label": `Step ${i + 1} of ${n}`, "aria-valuemin": low, "aria-valuemax": high }));
  const set = (/** @type {number} */ i, /** @type {number} */ v) => {
    values[i] = Math.round(clamp(v, low, high) * 100) / 100;
    const from = y(Math.max(0, low)), to = y(values[i]);
    rects[i].setAttribute("y", String(Math.min(from, to)));
    rects[i].setAttribute("height", String(Math.max(2, Math.abs(to - from))));
    rects[i].setAttribute("aria-valuenow", String(values[i]));
  };
  values.forEach((v, i) => set(i, v));
  svg.append(el("rect", { class: "hit", x: g.left, y: g.top, width: g.right - g.left, height: g.bottom - g.top }), ...rects);
  if (g.small) return;
  const paint = (/** @type {PointerEvent} */ event) => {
    const [px, py] = pointIn(svg, event), i = Math.floor((px - g.left) / width);
    if (i >= 0 && i < n) set(i, high - ((py - g.top) / (g.bottom - g.top)) * (high - low));
  };
  svg.onpointerdown = (event) => {
    const was = [...values];
    paint(event);
    drag(event, svg, { move: paint, done: (kept) => { if (!kept) was.forEach((v, i) => set(i, v)); done(values); } });
  };
  rects.forEach((rect, i) => rect.addEventListener("keydown", (event) => {
    const by = STEPS[event.key];
    if (!by) return;
    event.preventDefault();
    set(i, values[i] + by * (high - low));
    done(values);
  }));
}

/** The curve of an effect. Returns false where none would tell.
 *  @param {SVGSVGElement} svg
 *  @param {EffectState} effect
 *  @param {EffectApi | null} api */
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
    columns(svg, start, 0, 1, (values) => api.shape(effect.kind === "ducker" ? values.flatMap((v) => [v, v]) : values));
    return true;
  }
  const levels = picture.kind === "levels";
  const g = ground(svg, levels ? { l: 34, r: 8, t: 8, b: 18 } : { l: 10, r: 10, t: 8, b: 8 });
  const [low, high] = levels ? [-60, 6] : picture.kind === "gain" ? [0, 1.05] : [-1.2, 1.2];
  const y = (/** @type {number} */ v) => g.top + ((high - clamp(v, low, high)) / (high - low)) * (g.bottom - g.top);
  const x = (/** @type {number} */ db) => g.left + ((db + 60) / 60) * (g.right - g.left);
  if (levels) {
    svg.append(el("line", { class: "grid", x1: x(-60), y1: y(-60), x2: x(0), y2: y(0) }));
    if (!g.small) for (const db of [-48, -36, -24, -12, 0]) svg.append(text(g.left - 4, y(db) + 4, String(db).replace("-", "−"), { class: "s", "text-anchor": "end" }), text(x(db), g.bottom + 14, String(db).replace("-", "−"), { class: "s", "text-anchor": "middle" }));
  }
  svg.append(ownCurve(spread(picture.values, g.left, g.right, y)));
  if (levels && api && !g.small) {
    const field = byName(effect.fields).threshold_db;
    let { value } = field;
    handle(svg, x(value), y(value), "Threshold", (px) => {
      value = clamp(((px - g.left) / (g.right - g.left)) * 60 - 60, field.low, field.high);
      api.preview({ threshold_db: value });
      return `${value.toFixed(1)} dB`;
    }, () => api.params({ threshold_db: value }));
  }
  return true;
}

/** @param {SVGSVGElement} svg
 *  @param {EffectState} effect
 *  @param {Response} g
 *  @param {EffectApi} api */
function eqHandles(svg, effect, g, api) {
  const fields = byName(effect.fields);
  effect.options.forEach((option) => {
    const band = option.name.match(/^band(\d)_kind$/)?.[1];
    if (!band || option.value === "off") return;
    const gains = !option.value.includes("cut");
    const hz = fields[`band${band}_hz`], db = fields[`band${band}_db`];
    /** @type {Record<string, number>} */
    let now = {};
    handle(svg, g.x(hz.value), g.y(gains ? db.value : 0), `Band ${band}, ${option.value}`, (x, y) => {
      now = { [hz.name]: g.hz(x), ...(gains ? { [db.name]: clamp(g.db(y), db.low, db.high) } : {}) };
      api.preview(now);
      return `${Math.round(now[hz.name])} Hz${gains ? `, ${now[db.name].toFixed(1)} dB` : ""}`;
    }, () => api.params(now));
    svg.append(text(g.x(hz.value), g.y(gains ? db.value : 0) - 10, band, { class: "s", "text-anchor": "middle" }));
  });
}

/** @param {SVGSVGElement} svg
 *  @param {EffectState} effect
 *  @param {Response} g
 *  @param {EffectApi} api */
function sweepHandle(svg, effect, g, api) {
  const fields = byName(effect.fields);
  const high = g.y(24), low = g.y(-24);
  let now = { cutoff_hz: fields.cutoff_hz.value, resonance: fields.resonance.value };
  handle(svg, g.x(fields.cutoff_hz.value), low + (high - low) * fields.resonance.value, "Cutoff and resonance", (x, y) => {
    now = { cutoff_hz: g.hz(x), resonance: clamp((y - low) / (high - low), 0, 1) };
    api.preview(now);
    return `${Math.round(now.cutoff_hz)} Hz`;
  }, () => api.params(now));
}

/** Only the curve beneath the handle that is held: the old handles stay where the pointer has them.
 *  @param {Element} box
 *  @param {(ghost: SVGSVGElement) => void} drawing */
export function redrawCurve(box, drawing) {
  const svg = box.querySelector("svg.large");
  if (!svg) return;
  const ghost = svgOf("large ghost");
  svg.after(ghost);
  drawing(ghost);
  const fresher = ghost.querySelector(".ownline, path.ownbox");
  const old = svg.querySelector(".ownline, path.ownbox");
  if (fresher && old) old.setAttribute("d", fresher.getAttribute("d") ?? "");
  ghost.remove();
}
