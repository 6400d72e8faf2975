// @ts-check
// Transitions between sections: each a thing with its length in a row of their own, and the figures of the one in hand beneath.

import { edge, place } from "./bars.js";
import { button, menu, node, row, selectBox } from "./dom.js";
import { choiceField, numberField } from "./fields.js";
import { tip } from "./tips.js";
import { TRANSITIONS } from "./vocabulary.js";

const LINE = 24;
/** Beats longer, by key.
 *  @type {Record<string, number>} */
const LONGER = { ArrowLeft: 1, ArrowRight: -1 };
/** How much more of it, by key.
 *  @type {Record<string, number>} */
const MORE = { ArrowUp: 0.05, ArrowDown: -0.05 };

/** @typedef {import("./states").Transition} Transition */
/** @typedef {import("./states").OwnSection} OwnSection */
/** A transition with the bar line that it belongs to and the bars that it covers, from 0.
 *  @typedef {{ t: Transition, boundary: number, from: number, to: number }} Span */

const bars = (/** @type {number} */ beats) => {
  const count = beats / 4;
  return Number.isInteger(count) ? `${count}` : `${beats} beats`;
};

export class Transitions {
  /** @param {{ rows: import("./bars.js").BarRows, box: HTMLElement, song: () => import("./sections.js").PlanSong, send: import("./edits.js").Send }} options */
  constructor({ rows, box, song, send }) {
    this.rows = rows;
    this.box = box;
    this.song = song;
    this.send = send;
    /** @type {string | null} */
    this.picked = null;
    /** @type {OwnSection | undefined} */
    this.section = undefined;
  }

  /** @returns {Span[]} */
  #spans() {
    const ends = Object.fromEntries(this.song().sections.map((s) => [s.id, s.start - 1 + s.bars]));
    return this.song().transitions.filter((t) => t.section in ends).map((t) => {
      const boundary = ends[t.section], length = t.beats / 4;
      return { t, boundary, from: TRANSITIONS[t.kind].behind ? boundary : boundary - length, to: TRANSITIONS[t.kind].behind ? boundary + length : boundary };
    });
  }

  /** Stretches [from, bars] that a part plays for transitions.
   *  @param {string} part */
  playedBy(part) {
    return this.#spans().filter(({ t }) => (t.on.length ? t.on.includes(part) : t.kind === part)).map(({ from, to }) => [from, to - from]);
  }

  /** Which line each lies on, so that none hides another. */
  #lines() {
    /** @type {number[]} */
    const lines = [];
    return this.#spans().sort((a, b) => a.from - b.from).map((span) => {
      // A short one needs room for its name, behind it or, at the end of the track, in front of it.
      const room = 92 / Math.max(this.rows.perBar, 1), last = span.from + room > this.rows.bars;
      const begin = last ? Math.min(span.from, span.to - room) : span.from;
      let line = lines.findIndex((taken) => taken <= begin + 1e-6);
      if (line < 0) line = lines.length;
      lines[line] = last ? span.to : Math.max(span.to, span.from + room);
      return { ...span, line, last };
    });
  }

  /** @param {Node} head */
  draw(head) {
    const placed = this.#lines(), count = Math.max(1, ...placed.map((p) => p.line + 1));
    const lane = this.rows.row(head, 8 + count * LINE, "transitions");
    for (const { t, from, to, line, boundary, last } of placed) {
      const thing = place(node("button", `transition${t.id === this.picked ? " chosen" : ""}${TRANSITIONS[t.kind].behind ? " behind" : ""}${last ? " last" : ""}`), from, to - from);
      thing.type = "button";
      thing.style.top = `${4 + line * LINE}px`;
      thing.dataset.transition = t.id;
      thing.append(node("span", "", `${TRANSITIONS[t.kind].title}${["impact", "crash"].includes(t.kind) ? "" : ` ${bars(t.beats)}`}`));
      thing.setAttribute("aria-label", `${TRANSITIONS[t.kind].title}, ${bars(t.beats)}${Number.isInteger(t.beats / 4) ? " bars" : ""}, at bar ${boundary + 1}`);
      tip(thing, thing.getAttribute("aria-label") ?? "");
      thing.addEventListener("focus", () => this.pick(t.id));
      thing.addEventListener("click", () => { thing.focus(); this.pick(t.id); });
      thing.addEventListener("keydown", (event) => this.#key(event, t));
      lane.append(thing);
      if (TRANSITIONS[t.kind].behind) continue;
      // Its beginning is taken hold of; it always ends at the boundary.
      const begins = edge(this.rows, { bar: from, least: Math.max(0, boundary - 64), most: boundary - 0.25, step: 0.25, name: `Start of ${TRANSITIONS[t.kind].title}`, said: (bar) => `${(boundary - bar) * 4} beats long` }, (bar) => this.change(t, () => ({ beats: (boundary - bar) * 4 })));
      begins.classList.add("short");
      begins.style.top = `${4 + line * LINE}px`;
      lane.append(begins);
    }
    return lane;
  }

  /** @param {KeyboardEvent} event
   *  @param {Transition} t */
  #key(event, t) {
    const beats = LONGER[event.key], amount = MORE[event.key];
    if (!beats && !amount && event.key !== "Delete") return;
    event.preventDefault();
    event.stopPropagation();
    if (event.key === "Delete") this.send({ kind: "delete_transition", id: t.id });
    else if (amount) this.change(t, (now) => ({ amount: Math.min(1, Math.max(0, Number((now.amount + amount).toFixed(2)))) }));
    else this.change(t, (now) => ({ beats: Math.max(0.25, now.beats + beats * (event.shiftKey ? 4 : 1) * (TRANSITIONS[t.kind].behind ? -1 : 1)) }));
  }

  /** `by(t)` is what becomes other, of the transition as it stands when its turn comes.
   *  @param {Transition} transition
   *  @param {(t: Transition) => Partial<Transition>} by */
  change({ id }, by) {
    return this.send(() => {
      const t = this.song().transitions.find((one) => one.id === id);
      if (!t) return null;
      const { section, kind: what, beats, amount, on, rhythm, seed } = { ...t, ...by(t) };
      return { kind: "put_transition", id, section, what, beats, amount, on, rhythm, seed };
    });
  }

  /** @param {string} id */
  pick(id) {
    this.picked = id;
    for (const thing of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-transition]"))) thing.classList.toggle("chosen", thing.dataset.transition === id);
    this.tools();
  }

  /** Adds at the end of a section, and shows the figures of the one in hand. */
  tools(section = this.section) {
    this.section = section;
    this.box.replaceChildren();
    if (!section) return;
    const add = menu(`Add at the end of ${section.name}`, Object.keys(TRANSITIONS).map((kind) => row(TRANSITIONS[kind].title, () => this.send({ kind: "put_transition", section: section.id, what: kind, beats: 0 }))), { name: "add-transition" });
    this.box.append(node("b", "", "Transitions"), add);
    const t = this.song().transitions.find((one) => one.id === this.picked);
    const where = t && this.song().sections.find((s) => s.id === t.section);
    if (!t || !where) return;
    this.box.append(
      node("span", "own", `${TRANSITIONS[t.kind].title} at bar ${where.start + where.bars}`),
      numberField({ name: "transition-beats", title: "Length", unit: "beats", low: 0.25, high: where.bars * 4, value: t.beats, scale: "linear", step: 0.25 }, (beats) => this.change(t, () => ({ beats }))),
    );
    if (TRANSITIONS[t.kind].hasAmount) this.box.append(numberField({ name: "transition-amount", title: "Amount", unit: "%", low: 0, high: 100, value: Math.round(t.amount * 100), scale: "linear", step: 5 }, (v) => this.change(t, () => ({ amount: v / 100 }))));
    const { rhythms } = TRANSITIONS[t.kind];
    if (rhythms.length) this.box.append(choiceField({ name: "transition-rhythm", title: "Rhythm", options: rhythms, value: t.rhythm || rhythms[0] }, (rhythm) => this.change(t, () => ({ rhythm }))));
    if (TRANSITIONS[t.kind].hasSeed) this.box.append(button("New seed", () => this.change(t, (now) => ({ seed: now.seed + 1 }))));
    this.#on(t);
    this.box.append(button("Delete", () => this.send({ kind: "delete_transition", id: t.id }), "btn btn-link"));
  }

  /** @param {Transition} t */
  #on(t) {
    const how = TRANSITIONS[t.kind].worksOn;
    if (how === "carrier") return;
    const parts = this.song().parts.filter((p) => how !== "part" || Object.keys(p.patterns).length).map((p) => /** @type {[string, string]} */ ([p.id, p.name]));
    const buses = this.song().strips.filter(([, , kind]) => kind === "bus").map(([id, name]) => /** @type {[string, string]} */ ([id, `${name} bus`]));
    /** @type {[string, string][]} */
    const options = how === "part" ? parts : how === "parts" ? [...buses, ...parts] : [["master", "everything"], ...buses, ...parts];
    const named = (/** @type {string} */ id) => options.find(([o]) => o === id)?.[1] ?? id;
    const usual = how === "part" ? "usual part" : "the usual ones";
    const select = selectBox();
    select.setAttribute("aria-label", how === "part" ? "Made from" : "Works on");
    select.dataset.name = "transition-on";
    select.add(new Option(t.on.length ? `on ${t.on.map(named).join(", ")}` : `on ${usual}`, ""));
    if (t.on.length) select.add(new Option(usual, "[]"));
    for (const [id, title] of options) {
      const next = how === "part" ? [id] : t.on.includes(id) ? t.on.filter((o) => o !== id) : [...t.on, id];
      select.add(new Option(`${how !== "part" && t.on.includes(id) ? "not " : how !== "part" && t.on.length ? "and " : ""}${title}`, JSON.stringify(next)));
    }
    select.addEventListener("change", () => { if (select.value) this.change(t, () => ({ on: JSON.parse(select.value) })); });
    this.box.append(select);
  }
}
