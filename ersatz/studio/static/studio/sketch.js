// @ts-check
// Drawn over the Plan's rows on a canvas, as they scroll and zoom: the notes of the cells once there is room for them, and the names of
// what begins left of the view.

import { sectionNames } from "./draw.js";
import { TICKS_PER_BAR } from "./vocabulary.js";

/** @typedef {import("./sections.js").PlanSong} PlanSong */

/** From so many pixels per bar on there is room for notes. */
const ROOM_FOR_NOTES = 22;

export class Sketch {
  /** `picture` lies over `host`, whose rows are `rows`; `left`: the width of the names in px; `song()` is what stands.
   *  @param {{ picture: HTMLCanvasElement, host: HTMLElement, rows: import("./bars.js").BarRows, left: number, song: () => PlanSong }} options */
  constructor({ picture, host, rows, left, song }) {
    this.picture = picture;
    this.host = host;
    this.rows = rows;
    this.left = left;
    this.song = song;
    this.inks = { own: "", onown: "", ref: "", film: "" };
    this.tops = { own: 0, ref: 0, parts: /** @type {number[]} */ ([]) };
  }

  /** Where rows begin and which inks are used: read once when everything is drawn, not while it moves. */
  measure() {
    const style = getComputedStyle(this.host), ink = (/** @type {string} */ name) => style.getPropertyValue(`--${name}`);
    const top = (/** @type {string} */ row) => /** @type {HTMLElement | null} */ (this.host.querySelector(row))?.offsetTop ?? 0;
    this.inks = { own: ink("own"), onown: ink("onown"), ref: ink("ref"), film: ink("film") };
    this.tops = { own: top(".ownrow"), ref: top(".refrow"), parts: [.../** @type {NodeListOf<HTMLElement>} */ (this.host.querySelectorAll(".partrow"))].map((r) => r.offsetTop) };
  }

  draw() {
    const { picture, rows } = this, context = picture.getContext("2d"), ratio = window.devicePixelRatio || 1;
    if (!context) return;
    const width = rows.room + 2, height = this.host.clientHeight;
    if (picture.width !== Math.round(width * ratio) || picture.height !== Math.round(height * ratio)) {
      picture.width = Math.round(width * ratio);
      picture.height = Math.round(height * ratio);
      Object.assign(picture.style, { width: `${width}px`, height: `${height}px`, left: `${this.left}px` });
    }
    context.setTransform(ratio, 0, 0, ratio, 0, 0);
    context.clearRect(0, 0, width, height);
    if (rows.perBar >= ROOM_FOR_NOTES) this.#patterns(context);
    this.#stuck(context);
  }

  /** @param {CanvasRenderingContext2D} context */
  #patterns(context) {
    context.fillStyle = this.inks.onown;
    const [from, to] = this.rows.view, song = this.song();
    song.parts.forEach((part, row) => {
      const top = this.tops.parts[row] + 17;
      for (const section of song.sections) {
        const cell = part.cells[section.id], start = section.start - 1;
        if (!cell?.on || start > to || start + section.bars < from) continue;
        const leaves = section.bars - cell.exit;
        this.#pattern(context, part.patterns[cell.pattern], start, start + cell.entry, start + leaves - cell.fillBars, top);
        if (cell.fillBars) this.#pattern(context, part.patterns[cell.fill], start + leaves - cell.fillBars, start + leaves - cell.fillBars, start + leaves, top);
      }
    });
  }

  /** Small marks on the ink, higher for higher notes, from `begin` to `end`; the pattern repeats from `anchor` on.
   *  @param {CanvasRenderingContext2D} context
   *  @param {import("./states").PatternSketch | undefined} pattern
   *  @param {number} anchor
   *  @param {number} begin
   *  @param {number} end
   *  @param {number} top */
  #pattern(context, pattern, anchor, begin, end, top) {
    if (!pattern?.notes.length) return;
    const length = pattern.loop ? pattern.loop / TICKS_PER_BAR : pattern.bars, [from, to] = this.rows.view;
    const low = Math.min(...pattern.notes.map((n) => n[2])), span = Math.max(12, ...pattern.notes.map((n) => n[2] - low));
    for (let repeat = Math.max(0, Math.floor((from - anchor) / length)); anchor + repeat * length < Math.min(end, to); repeat += 1) {
      for (const [tick, ticks, midi] of pattern.notes) {
        const bar = anchor + repeat * length + tick / TICKS_PER_BAR;
        if (bar < begin || bar >= end || bar > to || tick / TICKS_PER_BAR >= length) continue;
        const x = (bar - from) * this.rows.perBar, wide = Math.max(1.5, Math.min(ticks / TICKS_PER_BAR, end - bar) * this.rows.perBar - 1);
        if (x + wide > 0) context.fillRect(x, top + 5 - ((midi - low) / span) * 5, wide, 1.6);
      }
    }
  }

  /** Names of what begins left of the view stay in sight at its edge.
   *  @param {CanvasRenderingContext2D} context */
  #stuck(context) {
    const [from, to] = this.rows.view, { inks, tops } = this, song = this.song(), { reference } = song;
    context.font = `600 12.5px Film, system-ui, sans-serif`;
    const stuck = (/** @type {string} */ text, /** @type {number} */ start, /** @type {number} */ bars, /** @type {number} */ top, /** @type {string} */ ink) => {
      if (start >= from || start + bars <= from || (start + bars - from) * this.rows.perBar < context.measureText(text).width + 14) return;
      context.fillStyle = ink === inks.ref ? inks.film : inks.own;
      context.fillRect(4, top - 11, context.measureText(text).width + 8, 14);
      context.fillStyle = ink;
      context.fillText(text, 8, top);
    };
    for (const s of song.sections) {
      if (s.start - 1 > to) break;
      stuck(s.name, s.start - 1, s.bars, tops.own + 20, inks.onown);
      song.parts.forEach((part, row) => {
        const cell = part.cells[s.id];
        if (cell?.on) stuck(cell.pattern, s.start - 1 + cell.entry, s.bars - cell.entry - cell.exit, tops.parts[row] + 19, inks.onown);
      });
    }
    const names = reference ? sectionNames(reference.sections.map((s) => [s.label])) : [];
    reference?.sections.forEach((s, i) => stuck(names[i], s.start - 1, s.bars, tops.ref + 18, inks.ref));
  }
}
