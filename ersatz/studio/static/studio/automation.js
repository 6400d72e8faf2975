// @ts-check
// One automated value over the song: its curve on the level of what it changes, points that are dragged, drawn or stepped, shapes,
// and the reference's measured curve where there is one.

import { barsWide } from "./bars.js";
import { button, menu, node, row, selectBox } from "./dom.js";
import { drag } from "./drag.js";
import { el } from "./draw.js";
import { shown } from "./fields.js";
import { tip } from "./tips.js";
import { SHAPES, TICKS_PER_BAR as TICKS } from "./vocabulary.js";

/** What a fader's level is called among the targets of a strip: "DEVICE.VALUE". */
const LEVEL = "fader.gain_db";
const TALL = 92, SNAP = 240, CHUNK = 32, PEAKS = 16;
/** How far a bend of 1 goes: as in the core's curves. */
const BEND = 5;

/** A point of a curve: [tick, value, bend].
 *  @typedef {[tick: number, value: number, bend: number]} CurvePoint */
/** What can be automated (ersatz/studio/plan/views.py): "DEVICE.VALUE", what it is called, its unit, lowest, highest, where it stands.
 *  @typedef {[target: string, said: string, unit: string, low: number, high: number, stands: number]} TargetRow */
/** @typedef {import("./states").OwnSection} OwnSection */

/** `points` of a curve that was `old`, with the ends held: what lies bars away from the point that was set keeps the value that it
 * had (`stands` where there was no curve), from the next bar line on.
 *  @param {CurvePoint[]} points
 *  @param {CurvePoint[]} old
 *  @param {number} stands
 *  @param {number} end */
export function held(points, old, stands, end) {
  const out = [...points], first = out[0], last = out[out.length - 1];
  const before = old[0]?.[1] ?? stands, after = old[old.length - 1]?.[1] ?? stands;
  const lineBefore = Math.ceil(first[0] / TICKS) * TICKS - TICKS, lineAfter = Math.floor(last[0] / TICKS) * TICKS + TICKS;
  if (last[1] !== after && lineAfter < end) out.push([lineAfter, after, 0]);
  if (first[1] !== before && lineBefore >= 0) out.unshift([lineBefore, before, 0]);
  return out;
}

/** A target as edits name it.
 *  @param {string} strip
 *  @param {string} target */
function named(strip, target) {
  const dot = target.indexOf(".");
  return { strip, device: target.slice(0, dot), param: target.slice(dot + 1) };
}

/** What a value belongs to: the strip itself, the part's voice, an effect of the chain.
 *  @param {string} target */
function groupOf(target) {
  const { device } = named("", target);
  return GROUPS[device] ?? "Effects";
}

/** @type {Record<string, string>} */
const GROUPS = { fader: "Strip", sends: "Strip", voice: "Sound" };
/** @type {Record<string, number>} */
const UP = { ArrowUp: 1, ArrowDown: -1 };
/** @type {Record<string, number>} */
const ALONG = { ArrowLeft: -1, ArrowRight: 1 };

export class Automation {
  /** @param {{ rows: import("./bars.js").BarRows, box: HTMLElement, song: () => import("./sections.js").PlanSong, send: import("./edits.js").Send, home: string }} options */
  constructor({ rows, box, song, send, home }) {
    this.rows = rows;
    this.box = box;
    this.song = song;
    this.send = send;
    /** Where the remake's pages are. */
    this.home = home;
    this.owner = "master";
    this.target = LEVEL;
    /** @type {TargetRow[]} */
    this.targets = [];
    this.drawing = false;
    /** @type {number | null} */
    this.picked = null;
    /** @type {Map<string, number[]>} */
    this.peaks = new Map();
    this.open = false;
    this.fetching = false;
    /** @type {HTMLElement | null} */
    this.lane = null;
    /** @type {OwnSection | undefined} */
    this.section = undefined;
    this.onOpen = () => {};
  }

  /** The strips that have values to draw: [id, name]. */
  get owners() {
    const { strips, parts } = this.song();
    return /** @type {[string, string][]} */ ([["master", "Master"], ...strips.map(([id, name, kind]) => [id, `${name} ${kind}`]), ...parts.map((p) => [p.id, p.name])]);
  }

  get ownerName() {
    return this.owners.find(([id]) => id === this.owner)?.[1] ?? this.owner;
  }

  /** @returns {CurvePoint[]} */
  get points() {
    return this.song().automation[this.owner]?.[this.target] ?? [];
  }

  get range() {
    const found = this.targets.find(([t]) => t === this.target), low = found?.[3] ?? -60, high = found?.[4] ?? 24;
    // Faders are used near the top: the rest of their range is at the foot of the lane.
    return this.unit === "dB" && low <= -60 ? [-36, Math.min(high, 12)] : [low, high];
  }

  /** The value where nothing is drawn. */
  get stands() {
    return this.targets.find(([t]) => t === this.target)?.[5] ?? 0;
  }

  get unit() {
    return this.targets.find(([t]) => t === this.target)?.[2] ?? "dB";
  }

  #log() {
    return this.unit === "Hz" && this.range[0] > 0;
  }

  /** @param {number} value */
  y(value) {
    const [low, high] = this.range, v = Math.min(high, Math.max(low, value));
    const share = this.#log() ? Math.log(v / low) / Math.log(high / low) : (v - low) / (high - low);
    return (TALL - 6) * (1 - share) + 3;
  }

  /** @param {number} y */
  value(y) {
    const [low, high] = this.range, share = Math.min(1, Math.max(0, 1 - (y - 3) / (TALL - 6)));
    return this.#log() ? low * (high / low) ** share : low + share * (high - low);
  }

  /** @param {string} owner
   *  @param {string | null} target */
  async choose(owner, target = null) {
    this.owner = owner;
    const answer = await fetch(`${this.home}targets/${encodeURIComponent(owner)}/`);
    this.targets = answer.ok ? (await answer.json()).targets : [];
    this.target = (this.targets.find(([t]) => t === target) ?? this.targets[0])?.[0] ?? LEVEL;
    this.picked = null;
    this.onOpen();
  }

  /** The row; `head` is its name. Redrawn in place when only the curve changes.
   *  @param {Node} head */
  draw(head) {
    if (!this.open) return;
    this.lane = this.rows.row(head, TALL, "automation");
    this.lane.setAttribute("aria-label", "Automation");
    this.lane.addEventListener("dblclick", (event) => { if (!this.drawing) this.#add(event); });
    this.lane.addEventListener("pointerdown", (event) => { if (this.drawing) this.#freehand(event); });
    this.redraw();
  }

  redraw() {
    this.tools();
    if (!this.open || !this.lane?.isConnected) return;
    const bars = this.song().bars;
    this.lane.replaceChildren();
    const svg = el("svg", { viewBox: `0 0 ${bars * TICKS} ${TALL}`, preserveAspectRatio: "none", "aria-hidden": "true" });
    svg.append(el("path", { class: "levels", d: this.#levels() }));
    const measured = this.#measured();
    if (measured) svg.append(el("path", { class: "refline over", d: measured }));
    const [low, high] = this.range, zero = this.unit === "dB" && low < 0 && high > 0;
    if (zero) svg.append(el("path", { class: "zero", d: `M0 ${this.y(0)}h${bars * TICKS}` }));
    svg.append(el("path", this.points.length ? { class: "ownline", d: this.#curve(bars * TICKS) } : { class: "ownline standing", d: `M0 ${this.y(this.stands)}h${bars * TICKS}` }));
    this.lane.append(svg);
    this.lane.append(...this.points.map((point, i) => this.#handle(point, i)));
    const unit = this.targets.find(([t]) => t === this.target)?.[2] ?? "";
    const scale = node("div", "scale"), mark = (/** @type {number} */ value, /** @type {string} */ said, name = "") => {
      const label = node("span", name, said);
      label.style.top = `${Math.min(TALL - 16, Math.max(0, this.y(value) - 8))}px`;
      scale.append(label);
    };
    mark(high, `${shown(high)} ${unit}`);
    mark(low, `${shown(low)} ${unit}`);
    if (zero) mark(0, `0 ${unit}`);
    if (!this.points.length) mark(this.stands, `stands at ${shown(this.stands)} ${unit} all through: double-click adds a point; or draw, or choose a shape`, "none");
    this.lane.append(scale);
    this.#fetchLevels();
  }

  /** @param {number} end */
  #curve(end) {
    const { points } = this;
    /** @type {string[]} */
    const out = [];
    out.push(`M0 ${this.y(points[0][1])}`);
    points.forEach(([tick, value, bend], i) => {
      out.push(`L${tick} ${this.y(value)}`);
      const next = points[i + 1];
      if (!next || (!bend && !this.#log())) return;
      // As the mixdown bends it, in steps that no eye sees.
      for (let k = 1; k < 16; k += 1) {
        const u = k / 16, rate = BEND * bend;
        const share = bend ? (1 - Math.exp(-rate * u)) / (1 - Math.exp(-rate)) : u;
        out.push(`L${tick + u * (next[0] - tick)} ${this.y(value + share * (next[1] - value))}`);
      }
    });
    out.push(`L${end} ${this.y(points[points.length - 1][1])}`);
    return out.join("");
  }

  /** The reference's loudness or brightness, its middle on the middle of the lane, a dB as tall as one of the curve's. */
  #measured() {
    const { reference } = this.song();
    const curve = this.target === LEVEL ? reference?.curves.loudness : this.unit === "Hz" || this.target.endsWith("level_db") ? reference?.curves.brightness : null;
    if (!curve?.length) return null;
    const middle = [...curve].map(([, v]) => v).sort((a, b) => a - b)[curve.length >> 1];
    return curve.filter(([, v]) => v > middle - 36).map(([bar, v], i) => `${i ? "L" : "M"}${Math.max(0, bar * TICKS)} ${Math.min(TALL - 2, Math.max(2, TALL / 2 - (v - middle) * 2.2))}`).join("");
  }

  #levels() {
    /** @type {string[]} */
    const out = [];
    for (let bar = 0; bar < this.song().bars; bar += CHUNK) {
      const known = this.peaks.get(`${this.song().sha}.${this.owner}.${bar}`);
      if (!Array.isArray(known)) continue;
      known.forEach((level, k) => {
        const x = (bar + k / PEAKS) * TICKS, tall = Math.min(1, level) * (TALL / 2 - 3);
        if (tall > 0.3) out.push(`M${x} ${TALL / 2 - tall}h${TICKS / PEAKS}v${2 * tall}h${-TICKS / PEAKS}z`);
      });
    }
    return out.join("") || "M0 0";
  }

  /** Levels of what is in view, and then of the rest, one stretch after the other. */
  async #fetchLevels() {
    if (this.fetching) return;
    this.fetching = true;
    const [first] = this.rows.view, { sha, bars, listen } = this.song(), { owner } = this;
    const starts = Array.from({ length: Math.ceil(bars / CHUNK) }, (_, k) => k * CHUNK).sort((a, b) => Math.abs(a + CHUNK / 2 - first) - Math.abs(b + CHUNK / 2 - first));
    for (const start of starts) {
      const key = `${sha}.${owner}.${start}`;
      if (this.peaks.has(key)) continue;
      if (!this.open || sha !== this.song().sha || owner !== this.owner) break;
      try {
        const answer = await fetch(`${listen}peaks/${encodeURIComponent(owner)}/${start + 1}-${Math.min(bars, start + CHUNK)}.json`);
        this.peaks.set(key, answer.ok ? (await answer.json()).peaks : []);
      } catch {
        break;
      }
      this.lane?.querySelector(".levels")?.setAttribute("d", this.#levels());
    }
    this.fetching = false;
    if (this.peaks.size > 200) this.peaks.clear();
    if (this.open && (sha !== this.song().sha || owner !== this.owner)) this.#fetchLevels();
  }

  /** @param {CurvePoint} point
   *  @param {number} i */
  #handle([tick, value, bend], i) {
    const handle = node("button", `point${i === this.picked ? " chosen" : ""}`);
    handle.type = "button";
    const { unit } = this;
    const put = (/** @type {number} */ t, /** @type {number} */ v) => {
      handle.style.left = `calc(${barsWide(t / TICKS)} - 6px)`;
      handle.style.top = `${this.y(v) - 6}px`;
      handle.setAttribute("aria-label", `Point at bar ${(t / TICKS + 1).toFixed(2)}, ${shown(v)} ${unit}`);
      tip(handle, `${handle.getAttribute("aria-label")}; arrow keys move it, Alt bends what follows, Delete takes it out`);
    };
    put(tick, value);
    handle.addEventListener("focus", () => { this.picked = i; this.tools(); });
    handle.addEventListener("pointerdown", (event) => {
      event.stopPropagation();
      handle.focus();
      const box = /** @type {HTMLElement} */ (this.lane).getBoundingClientRect();
      let now = /** @type {[number, number]} */ ([tick, value]);
      drag(event, handle, {
        move: (e) => {
          now = [this.#between(i, this.#snapped(this.rows.barAt(e.clientX) * TICKS, e.shiftKey)), this.#rounded(this.value(e.clientY - box.top))];
          put(...now);
        },
        done: (kept) => {
          if (!kept) put(tick, value);
          else if (now[0] !== tick || now[1] !== value) this.#change([tick, value], () => [now[0], now[1], bend]);
        },
      });
    });
    handle.addEventListener("keydown", (event) => {
      const by = UP[event.key], along = ALONG[event.key];
      if (!by && !along && event.key !== "Delete" && event.key !== "Backspace") return;
      event.preventDefault();
      event.stopPropagation();
      if (!by && !along) return this.#change([tick, value], () => null);
      const [low, high] = this.range, step = this.#log() ? value * 0.06 : (high - low) / (event.shiftKey ? 12 : 48);
      /** @type {CurvePoint} */
      const next = event.altKey && by ? [tick, value, Math.max(-1, Math.min(1, Number((bend + by * 0.1).toFixed(2))))] : by ? [tick, this.#rounded(Math.min(high, Math.max(low, value + by * step))), bend] : [this.#between(i, tick + along * (event.shiftKey ? TICKS : SNAP)), value, bend];
      return this.#change([tick, value], () => next);
    });
    return handle;
  }

  /** @param {number} tick
   *  @param {boolean} fine */
  #snapped(tick, fine) {
    const step = fine ? 10 : SNAP;
    return Math.max(0, Math.min(this.song().bars * TICKS, Math.round(tick / step) * step));
  }

  /** @param {number} i
   *  @param {number} tick */
  #between(i, tick) {
    const before = this.points[i - 1]?.[0] ?? 0, after = this.points[i + 1]?.[0] ?? this.song().bars * TICKS;
    return Math.max(before, Math.min(after, tick));
  }

  /** @param {number} value */
  #rounded(value) {
    return Number(value.toPrecision(4));
  }

  /** The curve anew: `make(points)` from what stands when its turn comes.
   *  @param {(points: CurvePoint[]) => CurvePoint[] | null} make */
  #set(make) {
    const { owner, target } = this;
    return this.send(() => {
      const points = make(this.song().automation[owner]?.[target] ?? []);
      return points && { kind: "set_automation", target: named(owner, target), points: points.map(([tick, value, curve]) => ({ tick, value, curve: curve ?? 0 })) };
    });
  }

  /** @param {CurvePoint[]} points
   *  @param {CurvePoint[]} old */
  #held(points, old) {
    return held(points, old, this.stands, this.song().bars * TICKS);
  }

  /** One point other: `by(point)`, or taken out where that gives null.
   *  @param {[tick: number, value: number]} place
   *  @param {(point: CurvePoint) => CurvePoint | null} by */
  #change([tick, value], by) {
    return this.#set((points) => {
      const i = points.findIndex((p) => p[0] === tick && p[1] === value);
      if (i < 0) return null;
      const next = by(points[i]);
      return next ? this.#held(points.with(i, next), points) : points.toSpliced(i, 1);
    });
  }

  /** @param {MouseEvent} event */
  #add(event) {
    if (!this.lane) return;
    const box = this.lane.getBoundingClientRect();
    this.#put(this.#snapped(this.rows.barAt(event.clientX) * TICKS, event.shiftKey), this.#rounded(this.value(event.clientY - box.top)));
  }

  /** @param {number} tick
   *  @param {number} value */
  #put(tick, value) {
    this.#set((points) => this.#held([...points.filter(([t]) => t !== tick), /** @type {CurvePoint} */ ([tick, value, 0])].sort((a, b) => a[0] - b[0]), points));
  }

  /** What the curve has at a place, on straight lines; what stands where there is none.
   *  @param {number} tick */
  #valueAt(tick) {
    const before = this.points.filter(([t]) => t <= tick).pop(), after = this.points.find(([t]) => t > tick);
    if (!before || !after) return (before ?? after)?.[1] ?? this.#rounded(this.stands);
    return this.#rounded(before[1] + ((after[1] - before[1]) * (tick - before[0])) / (after[0] - before[0]));
  }

  /** A line drawn by hand: a value for every 16th that the pointer passes.
   *  @param {PointerEvent} event */
  #freehand(event) {
    const { lane } = this, svg = lane?.querySelector("svg");
    if (!lane || !svg || /** @type {Element} */ (event.target).closest(".point")) return;
    /** @type {Map<number, number>} */
    const drawn = new Map();
    const line = el("path", { class: "ownline drawn" });
    svg.append(line);
    const move = (/** @type {PointerEvent} */ e) => {
      const box = lane.getBoundingClientRect();
      drawn.set(this.#snapped(this.rows.barAt(e.clientX) * TICKS, false), this.#rounded(this.value(e.clientY - box.top)));
      line.setAttribute("d", [...drawn].sort((a, b) => a[0] - b[0]).map(([t, v], i) => `${i ? "L" : "M"}${t} ${this.y(v)}`).join(""));
    };
    move(event);
    drag(event, lane, {
      move,
      done: (kept) => {
        if (!kept) {
          line.remove();
          return;
        }
        const points = [...drawn].sort((a, b) => a[0] - b[0]).map(([tick, v]) => ({ tick, value: v, curve: 0 }));
        this.send({ kind: "draw_automation", target: named(this.owner, this.target), points });
      },
    });
  }

  tools(section = this.section) {
    this.section = section;
    const { song } = this, box = this.box;
    box.replaceChildren();
    const show = button(this.open ? "Hide" : "Show", () => { this.open = !this.open; if (this.open && !this.targets.length) this.choose(this.owner, this.target); else this.onOpen(); });
    show.setAttribute("aria-pressed", String(this.open));
    box.append(node("b", "", "Automation"), show);
    if (!this.open) {
      const count = Object.values(song().automation).reduce((sum, curves) => sum + Object.keys(curves).length, 0);
      box.append(node("span", "", count ? `${count} ${count === 1 ? "curve" : "curves"}` : "none yet"));
      return;
    }
    const owner = selectBox(), target = selectBox();
    owner.setAttribute("aria-label", "What is automated");
    owner.dataset.name = "automation-owner";
    target.setAttribute("aria-label", "Which value of it");
    target.dataset.name = "automation-target";
    const mark = (/** @type {string} */ id) => (song().automation[id] ? " ●" : "");
    for (const [id, name] of this.owners) owner.add(new Option(name + mark(id), id, false, id === this.owner));
    /** @type {Map<string, HTMLOptGroupElement>} */
    const groups = new Map();
    for (const [id, name] of this.targets) {
      const label = groupOf(id);
      const group = groups.get(label) ?? target.appendChild(Object.assign(node("optgroup"), { label }));
      groups.set(label, group);
      group.append(new Option(name + (song().automation[this.owner]?.[id] ? " ●" : ""), id, false, id === this.target));
    }
    owner.addEventListener("change", () => this.choose(owner.value));
    target.addEventListener("change", () => { this.target = target.value; this.picked = null; this.onOpen(); });
    const draw = button("Draw", () => { this.drawing = !this.drawing; this.tools(); });
    draw.setAttribute("aria-pressed", String(this.drawing));
    const at = Math.floor(this.rows.at ?? 0), point = button(`Point at bar ${at + 1}`, () => this.#put(at * TICKS, this.#valueAt(at * TICKS)));
    box.append(owner, target, draw, point);
    if (section) this.#shapes(section);
    if (this.points.length) box.append(button("Delete curve", () => this.#set(() => []), "btn btn-link"));
  }

  /** @param {OwnSection} section */
  #shapes(section) {
    const [first, last] = [(section.start - 1) * TICKS, (section.start - 1 + section.bars) * TICKS - 1];
    const target = named(this.owner, this.target);
    this.box.append(menu(`Shape over ${section.name}`, SHAPES.map((shape) => row(shape, () => this.send({ kind: "shape_automation", target, shape, first, last }))), { name: "automation-shape" }));
    if (!this.points.length) return;
    this.box.append(menu(`Copy ${section.name} to`, this.song().sections.filter((s) => s.id !== section.id).map((s) => row(s.name, () => this.send({ kind: "copy_automation", target, section: section.id, to: s.id }))), { name: "automation-copy" }));
  }
}
