// @ts-check
// Ducking: the curve of the strip in hand over one beat, ours over the reference's; hold, release and bend by handle or figure; what triggers it;
// how deep every strip is ducked.

import { button, menu, node } from "./dom.js";
import { el, fresh, minus, ownCurve, path, refCurve, svgOf, text } from "./draw.js";
import { choiceField, numberField } from "./fields.js";
import { grip } from "./handle.js";
import { calledOf } from "./lanes.js";

const POINTS = 64, DEEPEST_DB = 24;
/** @type {[DuckCurve["rate"], string][]} */
const RATES = [["1/4", "every beat"], ["1/8", "every half beat"], ["hits", "hits of parts"]];

/** @typedef {import("./states").DuckCurve} DuckCurve */
/** @typedef {import("./states").StripState} Strip */
/** Hold and release in beats, and how the way back bends.
 *  @typedef {{ hold: number, release: number, bend: number }} Shape */

/** A curve as hold and release, in beats, and how the way back bends: 1 straight, more: slow at its end.
 *  @param {number[]} shape
 *  @returns {Shape} */
export function readShape(shape) {
  const top = Math.max(...shape, 1e-6), fresh = shape.map((v) => v / top);
  let hold = 0;
  while (hold + 1 < POINTS && fresh[hold + 1] >= 0.97) hold += 1;
  let release = hold + 1;
  while (release < POINTS && fresh[release] > 0.003) release += 1;
  const middle = fresh[Math.round((hold + release) / 2)] ?? 0;
  const bend = middle > 0.01 && middle < 0.99 ? Math.min(6, Math.max(0.3, Math.log(middle) / Math.log(0.5))) : 1;
  return { hold: hold / POINTS, release: Math.min(1, release / POINTS), bend };
}

/** The curve of it.
 *  @param {Shape} shape */
export function makeShape({ hold, release, bend }) {
  return Array.from({ length: POINTS }, (_, i) => {
    const t = i / POINTS;
    if (t <= hold) return 1;
    if (t >= release) return 0;
    return Number(((1 - (t - hold) / (release - hold)) ** bend).toFixed(4));
  });
}

export class DuckingPanel {
  /** `picked()`: id of the strip in hand; `most` dB that a strip can be ducked by; `home`: where the page's addresses begin.
   *  @param {{ box: HTMLElement, send: import("./edits.js").Send, state: () => import("./states").BalanceState, reference: import("./states").MixReference | null,
   *    picked: () => string, most: number, home: string }} options */
  constructor({ box, send, state, reference, picked, most, home }) {
    this.box = box;
    this.send = send;
    this.state = state;
    this.reference = reference;
    this.picked = picked;
    this.most = most;
    this.home = home;
    /** Id of the curve that is shown where the strip has none.
     *  @type {string | undefined} */
    this.chosen = undefined;
  }

  get strip() {
    return this.state().strips.find((s) => s.id === this.picked());
  }

  /** @returns {DuckCurve | undefined} */
  get curve() {
    const { curves } = this.state(), own = this.strip?.duck?.curve;
    return curves.find((c) => c.id === (own ?? this.chosen)) ?? curves[0];
  }

  draw() {
    const { curves, strips } = this.state(), { curve, strip } = this;
    this.box.replaceChildren();
    if (!curve) {
      this.box.append(node("p", "soft", "The song has no ducking curve yet."), button("Add a curve", () => this.send({ kind: "add_curve", name: "Pump", shape: makeShape({ hold: 0.03, release: 0.7, bend: 1.4 }) })));
      return;
    }
    const svg = svgOf("duck-curve"), line = node("div", "fields");
    svg.setAttribute("role", "group");
    svg.setAttribute("aria-label", "Gain over one beat, ours over the reference’s");
    this.box.append(svg, line, this.#triggers(curve), this.#depths(curve, strips));
    this.#drawCurve(svg, curve, strip);
    const beatMs = 60000 / this.state().bpm, now = readShape(curve.shape), put = (/** @type {Partial<Shape>} */ change) => this.#put(curve, { ...now, ...change });
    if (curves.length > 1) line.append(choiceField({ name: "duck-curve", title: "Curve", options: curves.map((c) => [c.id, c.name]), value: curve.id }, (id) => {
      this.chosen = id;
      if (strip?.duck) this.send({ kind: "set_duck", strip: strip.id, depth_db: strip.duck.depth_db, curve: this.chosen });
      else this.draw();
    }));
    if (strip && strip.kind !== "master") line.append(numberField({ name: "duck-depth", title: `Depth on ${strip.name}`, unit: "dB", low: 0, high: this.most, value: strip.duck?.depth_db ?? 0, scale: "linear", step: 0 }, (depth) => this.send({ kind: "set_duck", strip: strip.id, depth_db: depth, curve: curve.id })));
    line.append(
      numberField({ name: "duck-hold", title: "Hold", unit: "ms", low: 0, high: Math.round(beatMs * 0.8), value: Math.round(now.hold * beatMs), scale: "linear", step: 0 }, (ms) => put({ hold: ms / beatMs })),
      numberField({ name: "duck-release", title: "Release", unit: "ms", low: 10, high: Math.round(beatMs), value: Math.round((now.release - now.hold) * beatMs), scale: "linear", step: 0 }, (ms) => put({ release: Math.min(1, now.hold + ms / beatMs) })),
      numberField({ name: "duck-bend", title: "Bend", unit: "", low: 0.3, high: 6, value: Number(now.bend.toFixed(2)), scale: "log", step: 0 }, (bend) => put({ bend })),
    );
    const tools = node("div", "device-tools");
    if (this.reference?.pump.depthDb) tools.append(button("Fit to the reference", () => this.#fit(curve, "reference")));
    tools.append(button("Fit to the kick", () => this.#fit(curve, "kick")), button("New curve", () => this.send({ kind: "add_curve", name: `${curve.name} 2`, shape: curve.shape, rate: curve.rate, triggers: curve.triggers })));
    line.after(tools);
    const measured = this.state().measuredPump;
    if (measured) tools.after(node("p", "soft", `In the finished mix: ${measured.depthDb.toFixed(1)} dB${this.reference ? `, in the reference ${this.reference.pump.depthDb.toFixed(1)} dB` : ""}${measured.isCurrent ? "" : " (as last measured)"}`));
  }

  /** @param {DuckCurve} curve
   *  @param {Shape} shape */
  #put(curve, shape) {
    this.send({ kind: "draw_curve", curve: curve.id, shape: makeShape(shape) });
  }

  /** @param {DuckCurve} curve
   *  @param {"reference" | "kick"} to */
  #fit(curve, to) {
    this.send.post(`${this.home}fit/`, { revision: this.state().revision, curve: curve.id, to });
  }

  /** @param {SVGSVGElement} svg
   *  @param {DuckCurve} curve
   *  @param {Strip | undefined} strip */
  #drawCurve(svg, curve, strip) {
    const { width, height } = fresh(svg), bottom = height - 14, left = 26, depth = strip?.duck?.depth_db || 8, theirs = this.reference?.pump;
    const deepest = Math.max(6, depth, theirs?.depthDb ?? 0) * 1.08;
    const y = (/** @type {number} */ db) => 8 + (Math.max(0, -db) / deepest) * (bottom - 10), x = (/** @type {number} */ t) => left + t * (width - left - 4);
    for (let db = 0; db < deepest; db += deepest > 14 ? 6 : 3) svg.append(el("line", { class: "grid", x1: left, x2: width, y1: y(-db), y2: y(-db) }), text(0, y(-db) + 4, db ? `−${db}` : "0", { class: "s" }));
    const beatMs = 60000 / this.state().bpm;
    for (let k = 0; k < 4; k += 1) svg.append(text(x(k / 4), height - 2, `${Math.round((k / 4) * beatMs)}${k ? "" : " ms"}`, { class: "s" }));
    if (theirs?.depthDb) svg.append(...refCurve(theirs.curveDb.map((v, i) => [x(i / (theirs.curveDb.length - 1)), y(v)]), bottom));
    const own = ownCurve(curve.shape.map((v, i) => [x(i / POINTS), y(-v * depth)]));
    svg.append(own);
    const held = readShape(curve.shape), ms = (/** @type {number} */ t) => `${Math.round(t * beatMs)} ms`;
    const show = () => own.setAttribute("d", path(makeShape(held).map((v, i) => [x(i / POINTS), y(-v * depth)])));
    const handle = (/** @type {string} */ name, /** @type {() => number} */ at, /** @type {number} */ depthDb, /** @type {(t: number) => void} */ move) => {
      const square = el("rect", { class: "handle", x: x(at()) - 6, y: y(depthDb) - 6, width: 12, height: 12, "aria-valuenow": Math.round(at() * beatMs), "aria-valuetext": ms(at()) });
      square.append(el("title", {}, `${name}: drag, or step with the arrow keys`));
      const place = (/** @type {PointerEvent} */ event) => {
        const box = svg.getBoundingClientRect();
        return ((event.clientX - box.left) * (width / box.width) - left) / (width - left - 4);
      };
      const to = (/** @type {number} */ t) => {
        move(Math.min(1, Math.max(0, t)));
        square.setAttribute("x", String(x(at()) - 6));
        square.setAttribute("aria-valuetext", ms(at()));
        show();
      };
      const was = at();
      svg.append(grip(square, {
        name, move: (event) => to(place(event)), done: () => this.#put(curve, held), giveUp: () => to(was),
        step: (by) => {
          if (!by) return false;
          to(at() + by / POINTS);
          this.#put(curve, held);
          return true;
        },
      }));
    };
    handle("End of hold", () => held.hold, -depth, (t) => { held.hold = Math.min(t, held.release - 1 / POINTS); });
    handle("End of release", () => held.release, 0, (t) => { held.release = Math.max(t, held.hold + 1 / POINTS); });
  }

  /** @param {DuckCurve} curve */
  #triggers(curve) {
    const box = node("div", "fields"), parts = this.state().strips.filter((s) => s.kind === "part");
    const set = (/** @type {string} */ rate, /** @type {string[]} */ triggers) => this.send({ kind: "set_triggers", curve: curve.id, rate, triggers });
    box.append(choiceField({ name: "duck-rate", title: "Triggered by", options: RATES, value: curve.rate }, (rate) => set(rate, rate === "hits" ? curve.triggers : [])));
    if (curve.rate === "hits") {
      const names = curve.triggers.map((id) => parts.find((p) => p.id === id)?.name ?? id);
      box.append(menu(names.length ? names.join(", ") : "the kick", parts.map((p) => [`${curve.triggers.includes(p.id) ? "✓ " : ""}${p.name}`, () => set("hits", curve.triggers.includes(p.id) ? curve.triggers.filter((t) => t !== p.id) : [...curve.triggers, p.id])]), { name: "duck-triggers" }));
    }
    return box;
  }

  /** Every strip's depth at a glance, dragged where it stands.
   *  @param {DuckCurve} curve
   *  @param {Strip[]} strips */
  #depths(curve, strips) {
    const table = node("div", "duck-depths");
    table.setAttribute("role", "group");
    table.setAttribute("aria-label", "Depth of every strip");
    for (const strip of strips.filter((s) => s.kind !== "master" && s.role !== "kick")) {
      const row = node("label", `duck-depth${strip.id === this.picked() ? " picked" : ""}`), slider = node("input"), said = node("output"), depth = strip.duck?.depth_db ?? 0;
      Object.assign(slider, { type: "range", min: 0, max: DEEPEST_DB, step: 0.5, value: Math.min(DEEPEST_DB, depth) });
      slider.setAttribute("aria-label", `Ducking of ${calledOf(strip)}`);
      const show = (/** @type {number} */ v) => {
        said.textContent = v > 0 ? minus((-v).toFixed(1)) : "–";
        slider.setAttribute("aria-valuetext", `${v.toFixed(1)} dB`);
      };
      show(depth);
      slider.addEventListener("input", () => show(Number(slider.value)));
      slider.addEventListener("change", () => this.send({ kind: "set_duck", strip: strip.id, depth_db: Number(slider.value), curve: strip.duck?.curve ?? curve.id }));
      row.append(node("span", "", calledOf(strip)), slider, said);
      table.append(row);
    }
    return table;
  }
}
