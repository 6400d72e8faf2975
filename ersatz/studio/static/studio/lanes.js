// @ts-check
// Frequency lanes: one axis from 20 Hz to 20 kHz, a lane per strip with its measured energy, the mix over the reference on top. The lane in
// hand has its cuts and EQ points as handles; a double click adds a point.

import { stripResponseDb } from "./biquads.js";
import { HIGH, LOW, share } from "./analyser.js";
import { button, inputBox, node } from "./dom.js";
import { FREQUENCIES, el, fresh, minus, path, sized, svgOf, text } from "./draw.js";
import { readFigure, refuse, stepped } from "./fields.js";
import { keptFocus } from "./focus.js";
import { grip } from "./handle.js";
import { tip } from "./tips.js";
import { LIMITS } from "./vocabulary.js";

/** What an arrow key does to a point: a factor of its frequency, or dB more. */
const NUDGE = 1.06, NUDGE_DB = 0.5;
const RANGE_DB = 54, TALL = 32, HAND_TALL = 74;
/** Range of the faders on the page; the lowest place is off. */
const FADER_LOW = -48, FADER_HIGH = 12, OFF_DB = LIMITS.closedDb;

/** @typedef {import("./mix.js").Strip} Strip */
/** @typedef {import("./mixacts.js").Cut} Cut */
/** @typedef {import("./mixacts.js").Band} Band */
/** Levels as they were measured last, and of which song: its strips and its address. `top`: the loudest third octave.
 *  @typedef {import("./analyser.js").Levels & { from: number, to: number, of: Strip[], listen: string, top?: number }} MixLevels */
/** @typedef {{ row: HTMLElement, svg: SVGSVGElement, fader: HTMLInputElement, figure: HTMLInputElement, meter: HTMLElement }} Row */
/** Where a pointer is: a share of the axis, and dB.
 *  @typedef {(event: PointerEvent) => [share: number, db: number]} At */

export const faderDb = (/** @type {number} */ place) => (place <= FADER_LOW ? OFF_DB : place);
export const faderPlace = (/** @type {number} */ db) => Math.max(FADER_LOW, Math.min(FADER_HIGH, db));

/** A strip as it is told from others of its name: the bass bus from the bass. */
export const calledOf = (/** @type {{ kind: string, name: string }} */ strip) => (strip.kind === "bus" && !/bus$/i.test(strip.name) ? `${strip.name} bus` : strip.name);
const hertz = (/** @type {number} */ at) => Math.min(HIGH, Math.max(LOW, LOW * (HIGH / LOW) ** at));
export const saidHz = (/** @type {number} */ hz) => (hz >= 1000 ? `${(hz / 1000).toFixed(hz < 10000 ? 2 : 1)} kHz` : `${Math.round(hz)} Hz`);

/** A group of a picture, made where it isn't there yet.
 *  @param {SVGElement} svg
 *  @param {string} name */
function layer(svg, name) {
  return /** @type {SVGElement | null} */ (svg.querySelector(`:scope > .${name}`)) ?? svg.appendChild(el("g", { class: name }));
}

/** Pixels of a dB in the lane in hand, which shows 18 dB up and down. */
const perDbOf = (/** @type {number} */ height) => (height / 2 - 6) / 18;

export class LaneRows {
  /** `levels()`: measured levels of the section or null, `marks()`: the clash to frame; `act`: what the hands do.
   *  @param {HTMLElement} host
   *  @param {{ mix: import("./mix.js").Mix, levels: () => MixLevels | null, marks: () => import("./clashes.js").Clash | null,
   *    act: import("./mixacts.js").MixActs, analyser: import("./analyser.js").Analyser }} options */
  constructor(host, { mix, levels, marks, act, analyser }) {
    this.host = host;
    this.mix = mix;
    this.levels = levels;
    this.marks = marks;
    this.act = act;
    this.analyser = analyser;
    /** Id of the strip in hand. */
    this.picked = "";
    /** Ids of those chosen with it, and of folded buses.
     *  @type {Set<string>} */
    this.chosen = new Set();
    /** @type {Set<string>} */
    this.folded = new Set();
    /** @type {Map<string, Row>} */
    this.rows = new Map();
  }

  /** Strips in the order of the page: parts under the bus that they go to, returns, the master last. */
  #ordered() {
    const strips = this.mix.wanted();
    /** @type {{ strip: Strip, depth: number }[]} */
    const out = [];
    const place = (/** @type {Strip} */ strip, /** @type {number} */ depth) => {
      out.push({ strip, depth });
      if (this.folded.has(strip.id)) return;
      for (const inner of strips.filter((s) => s.out === strip.id && s.kind !== "return")) place(inner, depth + 1);
    };
    for (const strip of strips) if (strip.out === "master" && strip.kind !== "return") place(strip, 0);
    for (const strip of strips) if (strip.kind === "return") out.push({ strip, depth: 0 });
    return [...out, ...strips.filter((s) => s.kind === "master").map((strip) => ({ strip, depth: 0 }))];
  }

  draw() {
    const focused = keptFocus();
    this.rows.clear();
    this.host.replaceChildren(this.#axis(), this.analyser.row, ...this.#ordered().map(({ strip, depth }) => this.#row(strip, depth)));
    this.redraw();
    focused();
  }

  /** The pictures alone, where a value is held or levels have come. */
  redraw() {
    const levels = this.levels();
    this.analyser.draw();
    for (const [id, row] of this.rows) this.#drawLane(id, row, levels);
    this.#drawMarks();
  }

  #axis() {
    const row = node("div", "lane axis"), svg = svgOf("lane-axis");
    row.append(node("div", "lane-head"), svg);
    svg.setAttribute("aria-hidden", "true");
    requestAnimationFrame(() => {
      const { width } = fresh(svg, 18);
      for (const [hz, name] of FREQUENCIES) svg.append(text(share(hz) * width, 13, name, { class: "s", "text-anchor": "middle" }));
    });
    return row;
  }

  /** @param {Strip} strip
   *  @param {number} depth */
  #row(strip, depth) {
    const row = node("div", `lane of-${strip.kind}${strip.id === this.picked ? " picked" : ""}${this.chosen.has(strip.id) ? " chosen" : ""}`), head = node("div", "lane-head");
    row.dataset.strip = strip.id;
    head.style.setProperty("--depth", String(depth));
    const fold = this.mix.state.strips.some((s) => s.out === strip.id) && strip.kind === "bus" ? button(this.folded.has(strip.id) ? "▸" : "▾", () => {
      if (!this.folded.delete(strip.id)) this.folded.add(strip.id);
      this.draw();
    }, "fold") : null;
    fold?.setAttribute("aria-label", `${this.folded.has(strip.id) ? "Unfold" : "Fold"} ${calledOf(strip)}`);
    const name = button(strip.name, (event) => this.act.choose(strip.id, event), "lane-name");
    name.setAttribute("aria-pressed", String(strip.id === this.picked || this.chosen.has(strip.id)));
    tip(name, `${calledOf(strip)}; with Ctrl or Shift several are chosen`);
    name.setAttribute("aria-label", calledOf(strip));
    const fader = node("input", "fader"), figure = inputBox(), meter = node("span", "meter");
    Object.assign(fader, { type: "range", min: FADER_LOW, max: FADER_HIGH, step: 0.1, value: faderPlace(strip.figures.gain_db) });
    fader.setAttribute("aria-label", `Fader of ${calledOf(strip)}`);
    fader.setAttribute("aria-valuetext", `${strip.figures.gain_db.toFixed(1)} dB`);
    Object.assign(figure, { type: "text", inputMode: "decimal", value: minus(strip.figures.gain_db.toFixed(1)) });
    figure.setAttribute("aria-label", `Level of ${calledOf(strip)}, dB`);
    stepped(figure, 0.5);
    fader.addEventListener("input", () => {
      figure.value = minus(Number(fader.value).toFixed(1));
      this.act.drag(strip.id, { gain_db: faderDb(Number(fader.value)) });
    });
    fader.addEventListener("change", () => this.act.set(strip.id, { gain_db: faderDb(Number(fader.value)) }));
    fader.addEventListener("dblclick", () => { fader.value = "0"; fader.dispatchEvent(new Event("input")); fader.dispatchEvent(new Event("change")); });
    figure.addEventListener("change", () => {
      const { value, sentence } = readFigure({ title: `The level of ${calledOf(strip)}`, unit: "dB", low: LIMITS.faderDb[0], high: LIMITS.faderDb[1] }, figure.value);
      refuse(figure, sentence ?? "");
      if (value === undefined) figure.value = minus(strip.figures.gain_db.toFixed(1));
      else this.act.set(strip.id, { gain_db: value });
    });
    const toggle = (/** @type {string} */ letter, /** @type {string} */ said, /** @type {boolean} */ on, /** @type {() => void} */ act) => {
      const one = button(letter, act, "btn btn-tool btn-square");
      one.setAttribute("aria-pressed", String(on));
      one.setAttribute("aria-label", said);
      tip(one, said);
      return one;
    };
    const line = node("div", "lane-line");
    line.append(...(fold ? [fold] : []), name);
    if (strip.kind !== "master") line.append(toggle("M", `Mute ${calledOf(strip)}`, strip.mute, () => this.act.mute(strip.id)));
    if (["part", "bus"].includes(strip.kind)) line.append(toggle("S", `Solo ${calledOf(strip)}`, this.mix.solo.has(strip.id), () => this.act.solo(strip.id)));
    line.append(fader, figure);
    meter.append(node("i", "rms"), node("i", "peak"));
    head.append(line, meter);
    for (const type of ["pointerenter", "focusin"]) row.addEventListener(type, () => this.act.near(strip.id));
    const svg = svgOf("lane-picture");
    svg.setAttribute("role", "group");
    svg.setAttribute("aria-label", `${calledOf(strip)} on the frequency axis`);
    svg.addEventListener("dblclick", (event) => {
      if (/** @type {Element} */ (event.target).closest(".handle")) return;
      const box = svg.getBoundingClientRect();
      this.act.addBand(strip.id, hertz((event.clientX - box.left) / box.width));
    });
    svg.addEventListener("click", () => { if (strip.id !== this.picked) this.act.pick(strip.id); });
    row.append(head, svg);
    this.rows.set(strip.id, { row, svg, fader, figure, meter });
    return row;
  }

  /** A value that is held is shown in its row without drawing the row anew.
   *  @param {Strip} strip */
  show(strip) {
    const row = this.rows.get(strip.id);
    if (!row) return;
    row.fader.setAttribute("aria-valuetext", `${strip.figures.gain_db.toFixed(1)} dB`);
    this.#drawLane(strip.id, row, this.levels());
  }

  /** @param {string} id
   *  @param {Row} row
   *  @param {MixLevels | null} levels */
  #drawLane(id, { svg, row }, levels) {
    const strip = this.mix.strip(id), inHand = id === this.picked;
    const { width, height } = sized(svg, inHand ? HAND_TALL : TALL), bottom = height - 1, picture = layer(svg, "picture"), hands = layer(svg, "hands");
    picture.replaceChildren();
    row.classList.toggle("muted", strip.mute);
    for (const [hz] of FREQUENCIES) picture.append(el("line", { class: "grid", x1: share(hz) * width, x2: share(hz) * width, y1: 0, y2: bottom }));
    picture.append(el("line", { class: "tick", x1: 0, x2: width, y1: bottom, y2: bottom }));
    const measured = levels?.strips[id];
    if (levels && measured) {
      const was = levels.of.find((s) => s.id === id), by = strip.mute ? -200 : strip.figures.gain_db - (was?.figures.gain_db ?? strip.figures.gain_db);
      const top = this.#top(levels);
      const points = measured.map((db, i) => {
        // The measured energy moves along with what is changed, until it is measured anew.
        const moved = db + by + (was ? stripResponseDb(strip, levels.hz[i]) - stripResponseDb(was, levels.hz[i]) : 0);
        return [share(levels.hz[i]) * width, 2 + (Math.min(RANGE_DB, Math.max(0, top - moved)) / RANGE_DB) * (bottom - 2)];
      });
      picture.append(el("path", { class: "energy", d: `${path(points)}L${points[points.length - 1][0]} ${bottom}L${points[0][0]} ${bottom}Z` }));
    } else if (levels) picture.append(text(6, height / 2 + 4, strip.mute ? "muted" : "silent here", { class: "s" }));
    if (inHand) picture.append(...this.#curve(strip, width, height));
    // A handle that is being dragged moves itself.
    if (hands.querySelector("[data-held]")) return;
    const focused = keptFocus();
    hands.replaceChildren();
    if (inHand) this.#handles(svg, hands, strip, width, height);
    focused();
  }

  /** The loudest third octave of any strip: what all lanes are drawn against.
   *  @param {MixLevels} levels */
  #top(levels) {
    levels.top ??= Math.max(...Object.entries(levels.strips).filter(([id]) => id !== "master").flatMap(([, row]) => row)) + 1;
    return levels.top;
  }

  // The lane in hand ----------------------------------------------------------------------------------------------------

  /** What its filters do, over a line at 0 dB.
   *  @param {Strip} strip
   *  @param {number} width
   *  @param {number} height */
  #curve(strip, width, height) {
    const middle = height / 2, perDb = perDbOf(height);
    const curve = Array.from({ length: 160 }, (_, i) => {
      const hz = LOW * (HIGH / LOW) ** (i / 159);
      return [(i / 159) * width, middle - Math.max(-20, Math.min(20, stripResponseDb(strip, hz))) * perDb];
    });
    return [el("line", { class: "zero", x1: 0, x2: width, y1: middle, y2: middle }), el("path", { class: "eqline", d: path(curve) })];
  }

  /** @param {SVGSVGElement} svg
   *  @param {SVGElement} hands  What they are put in.
   *  @param {Strip} strip
   *  @param {number} width
   *  @param {number} height */
  #handles(svg, hands, strip, width, height) {
    const middle = height / 2, perDb = perDbOf(height);
    /** @type {At} */
    const place = (event) => {
      const box = svg.getBoundingClientRect();
      return [Math.min(1, Math.max(0, (event.clientX - box.left) / box.width)), (middle - ((event.clientY - box.top) / box.height) * height) / perDb];
    };
    for (const cut of this.act.cutsOf(strip)) this.#cutHandle(hands, strip, cut, width, height, place);
    for (const band of this.act.bandsOf(strip)) this.#bandHandle(hands, strip, band, width, middle, perDb, place);
  }

  /** A point of the curve to take hold of.
   *  @template {SVGElement} E
   *  @param {E} shape
   *  @param {string} said
   *  @param {Parameters<typeof grip>[1]} acts */
  #grip(shape, said, acts) {
    shape.setAttribute("aria-valuetext", said);
    shape.setAttribute("aria-valuenow", "0");
    shape.append(el("title", {}, `${acts.name}, ${said}: drag, or step with the arrow keys; Delete takes it out`));
    return grip(shape, acts);
  }

  /** What a handle stands at while it is dragged, beside it and for those who hear the page.
   *  @param {SVGElement} handle
   *  @param {SVGTextElement} figure
   *  @param {string} said
   *  @param {number} x
   *  @param {number} width */
  #say(handle, figure, said, x, width) {
    handle.setAttribute("aria-valuetext", said);
    figure.textContent = said;
    const isLeft = x > width - 110;
    figure.setAttribute("x", String(isLeft ? x - 10 : x + 10));
    figure.setAttribute("text-anchor", isLeft ? "end" : "start");
  }

  /** @param {SVGElement} hands
   *  @param {Strip} strip
   *  @param {Cut} cut
   *  @param {number} width
   *  @param {number} height
   *  @param {At} place */
  #cutHandle(hands, strip, cut, width, height, place) {
    const name = `${cut.which === "low" ? "Low" : "High"} cut of ${calledOf(strip)}`, x = (/** @type {number} */ hz) => Math.min(width - 7, Math.max(7, share(hz) * width));
    const off = !cut.hz, at = off ? (cut.which === "low" ? LOW : HIGH) : cut.hz;
    const line = el("line", { class: "cutline", x1: x(at), x2: x(at), y1: 4, y2: height - 1 });
    const box = el("rect", { class: `handle${off ? " off" : ""}`, x: x(at) - 6, y: 3, width: 12, height: 12, "data-handle": `${strip.id} ${cut.which} cut` });
    const figure = text(0, 13, "", { class: "s" });
    let now = cut.hz;
    const to = (/** @type {number} */ hz) => {
      now = cut.which === "low" ? (hz <= 21 ? 0 : hz) : hz >= 19500 ? 0 : hz;
      this.#say(box, figure, now ? saidHz(now) : "off", x(hz), width);
      line.setAttribute("x1", String(x(hz)));
      line.setAttribute("x2", String(x(hz)));
      box.setAttribute("x", String(x(hz) - 6));
      this.act.cut(strip.id, cut, now, false);
    };
    hands.append(line, figure, this.#grip(box, off ? "off" : saidHz(cut.hz), {
      name, move: (event) => to(hertz(place(event)[0])), done: () => this.act.cut(strip.id, cut, now, true), giveUp: () => this.act.letGo(strip.id), remove: () => this.act.cut(strip.id, cut, 0, true),
      step: (x) => {
        if (x) this.act.cut(strip.id, cut, Math.min(HIGH, Math.max(LOW + 2, at * NUDGE ** x)), true);
        return x !== 0;
      },
    }));
  }

  /** @param {SVGElement} hands
   *  @param {Strip} strip
   *  @param {Band} band
   *  @param {number} width
   *  @param {number} middle
   *  @param {number} perDb
   *  @param {At} place */
  #bandHandle(hands, strip, band, width, middle, perDb, place) {
    const name = `${band.kind} of ${calledOf(strip)}`, y = (/** @type {number} */ db) => middle - Math.max(-20, Math.min(20, db)) * perDb;
    const circle = el("circle", { class: "handle", cx: share(band.hz) * width, cy: y(band.db), r: 6.5, "data-handle": `${strip.id} ${band.master ?? `${band.i} ${band.k}`}` });
    const figure = text(0, 13, "", { class: "s" });
    let now = { hz: band.hz, db: band.db };
    hands.append(figure, this.#grip(circle, `${saidHz(band.hz)}, ${band.db.toFixed(1)} dB`, {
      name,
      move: (event) => {
        const [at, db] = place(event);
        now = { hz: hertz(at), db: Math.max(-18, Math.min(18, db)) };
        this.#say(circle, figure, `${saidHz(now.hz)}, ${minus(now.db.toFixed(1))} dB`, share(now.hz) * width, width);
        figure.setAttribute("y", String(Math.max(13, y(now.db) - 9)));
        circle.setAttribute("cx", String(share(now.hz) * width));
        circle.setAttribute("cy", String(y(now.db)));
        this.act.band(strip.id, band, now, false);
      },
      done: () => this.act.band(strip.id, band, now, true), giveUp: () => this.act.letGo(strip.id), remove: () => this.act.band(strip.id, band, null, true),
      step: (x, y) => {
        this.act.band(strip.id, band, { hz: band.hz * NUDGE ** x, db: band.db + y * NUDGE_DB }, true);
        return true;
      },
    }));
    circle.addEventListener("wheel", (event) => {
      event.preventDefault();
      this.act.band(strip.id, band, { ...now, q: Math.min(16, Math.max(0.2, band.q * (event.deltaY < 0 ? 1.15 : 1 / 1.15))) }, true);
    }, { passive: false });
  }

  /** Frames where two strips fight, from the one lane to the other. */
  #drawMarks() {
    for (const old of this.host.querySelectorAll(".clash-frame")) old.remove();
    const mark = this.marks();
    if (!mark) return;
    const rows = mark.strips.flatMap((id) => this.rows.get(id)?.row ?? []), picture = rows[0]?.querySelector("svg");
    if (!picture) return;
    const tops = rows.map((r) => r.offsetTop), bottoms = rows.map((r) => r.offsetTop + r.offsetHeight);
    const frame = node("div", "clash-frame"), box = picture.getBoundingClientRect(), host = this.host.getBoundingClientRect();
    const from = box.left - host.left + share(mark.low_hz) * box.width, to = box.left - host.left + share(mark.high_hz) * box.width;
    Object.assign(frame.style, { left: `${from}px`, width: `${Math.max(8, to - from)}px`, top: `${Math.min(...tops)}px`, height: `${Math.max(...bottoms) - Math.min(...tops)}px` });
    frame.setAttribute("aria-hidden", "true");
    this.host.append(frame);
  }
}
