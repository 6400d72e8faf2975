// @ts-check
// The drum grid: a row for every drum, hits as ink whose height is their velocity, the reference's hits outlined in blue where it has
// them, as early or late as they are.

import { barsWide, edge, place } from "./bars.js";
import { mark, node } from "./dom.js";
import { drag } from "./drag.js";
import { plainNote } from "./notespage.js";
import { placeSaid } from "./pitches.js";
import { tip } from "./tips.js";
import { TICKS_PER_BAR as BAR } from "./vocabulary.js";

/** @typedef {import("./notespage.js").Note} Note */
/** @typedef {import("./notespage.js").NoteRow} NoteRow */
/** @typedef {import("./states").Pattern} Pattern */

const TALL = 40;

export class DrumGrid {
  /** @param {{ rows: import("./bars.js").BarRows, page: import("./notespage.js").NotesPage, host: HTMLElement }} options */
  constructor({ rows, page, host }) {
    this.rows = rows;
    this.page = page;
    this.host = host;
    this.bars = 1;
    /** Ticks of the place that the keyboard is at, by row.
     *  @type {Record<string, number>} */
    this.cursors = {};
  }

  /** @param {Pick<Note, "tick">} note */
  nameOf(note) {
    return placeSaid(note.tick, BAR);
  }

  draw() {
    const { page, rows } = this, all = page.song.rows;
    this.bars = Math.max(1, ...all.map((r) => page.patternOf(r)?.bars ?? 1));
    const fresh = rows.bars !== this.bars || !rows.perBar;
    rows.clear(this.bars);
    // Two bars have room for 32nds.
    if (fresh && this.bars > 2) rows.show(0, 2);
    rows.ruler(() => {});
    for (const row of all) this.#row(row);
  }

  /** @param {NoteRow} row */
  #row(row) {
    const { page, rows } = this, pattern = page.patternOf(row), head = document.createDocumentFragment();
    const name = node("button", "rowname", row.name);
    name.type = "button";
    name.addEventListener("click", () => { page.row = row.id; page.draw(); });
    name.setAttribute("aria-pressed", String(page.row === row.id));
    tip(name, `Take ${row.name} in hand`);
    head.append(name, node("small", "soft", page.nameOf(row) ?? ""));
    const lane = rows.row(head, TALL, `hits${page.row === row.id ? " inhand" : ""}`);
    lane.dataset.lane = row.id;
    lane.style.setProperty("--cell", `calc(${barsWide(page.grid / BAR)})`);
    lane.tabIndex = 0;
    lane.setAttribute("role", "application");
    this.#reference(lane, row, pattern);
    if (!pattern) return;
    const length = pattern.loop_ticks || pattern.bars * BAR;
    for (let from = 0; from < this.bars * BAR; from += length) {
      for (const note of pattern.notes) if (note.tick < length && from + note.tick < this.bars * BAR) lane.append(this.#hit(row, note, from));
    }
    if (length < this.bars * BAR) lane.append(place(node("i", "again"), length / BAR, this.bars - length / BAR));
    lane.append(edge(rows, { bar: length / BAR, least: 1 / 16, most: pattern.bars, step: 1 / 16, name: `${row.name} loop length`, said: (bar) => `${bar * 16} 16ths` }, (bar) => {
      const ticks = Math.round(bar * BAR);
      page.write(row, (notes) => [notes], `loop length ${ticks / 240} 16ths`, { loop_ticks: ticks === pattern.bars * BAR ? 0 : ticks });
    }));
    lane.addEventListener("pointerdown", (event) => {
      if (/** @type {Element} */ (event.target).closest(".hit, .boundary") || event.button !== 0) return;
      const tick = page.snap(rows.barAt(event.clientX) * BAR);
      if (tick < length) this.#add(row, tick);
    });
    lane.addEventListener("keydown", (event) => this.#key(event, row, lane, length));
    lane.addEventListener("focus", () => this.#cursor(row, lane));
    lane.addEventListener("blur", () => lane.querySelector(".cursor")?.remove());
    this.#said(row, lane);
  }

  /** The reference's bar, again and again.
   *  @param {Element} lane
   *  @param {NoteRow} row
   *  @param {Pattern | undefined} pattern */
  #reference(lane, row, pattern) {
    const hits = this.page.there()?.hits?.[row.role];
    if (!hits) return;
    const msPerBar = 240_000 / this.page.song.bpm;
    for (let bar = 0; bar < (pattern?.bars ?? 1); bar += 1) {
      for (const [tick, strength, late] of hits) {
        const mark = place(node("i", "refhit"), bar + tick / BAR + late / msPerBar, 0.8 / 16);
        mark.style.height = `${6 + strength * (TALL - 12)}px`;
        lane.append(mark);
      }
    }
  }

  /** `from`: ticks from the start where the pattern begins again; only its first round is taken hold of.
   *  @param {NoteRow} row
   *  @param {Note} note
   *  @param {number} from */
  #hit(row, note, from) {
    const { page } = this, late = note.nudge_ms / (240_000 / page.song.bpm), again = from > 0;
    const wide = (Math.min(note.ticks, 240) * 0.86) / BAR;
    const hit = place(node(again ? "i" : "button", `hit${again ? " echo" : ""}`), (from + note.tick) / BAR + late, Math.max(wide, 0.01));
    hit.style.height = `${5 + note.velocity * (TALL - 9)}px`;
    for (let k = 1; k < note.repeats; k += 1) {
      const cut = node("i", "cut");
      cut.style.left = `${(100 * k) / note.repeats}%`;
      hit.append(cut);
    }
    if (note.semitones) hit.append(mark("", `${note.semitones > 0 ? "+" : "−"}${Math.abs(note.semitones)}`, "small"));
    if (!(hit instanceof HTMLButtonElement)) return hit;
    const key = page.placeOf(row, note);
    hit.type = "button";
    hit.dataset.note = key;
    hit.tabIndex = -1;
    hit.classList.toggle("chosen", page.picked.has(key));
    hit.classList.toggle("locked", page.locked.has(key));
    hit.setAttribute("aria-label", `${row.name}, ${this.nameOf(note)}, velocity ${Math.round(note.velocity * 100)} %`);
    hit.addEventListener("pointerdown", (event) => this.#drag(event, row, note, hit));
    hit.addEventListener("contextmenu", (event) => { event.preventDefault(); page.remove(row, [note]); });
    return hit;
  }

  /** @param {PointerEvent} event
   *  @param {NoteRow} row
   *  @param {Note} note
   *  @param {HTMLElement} hit */
  #drag(event, row, note, hit) {
    if (event.button !== 0) return;
    event.stopPropagation();
    const { page } = this, key = page.placeOf(row, note), was = page.picked.has(key), start = [event.clientX, event.clientY];
    if (event.shiftKey) page.pick(row, [note], page.row === row.id);
    else if (!was) page.pick(row, [note]);
    let velocity = note.velocity, nudge = note.nudge_ms;
    const move = (/** @type {PointerEvent} */ e) => {
      const [dx, dy] = [e.clientX - start[0], e.clientY - start[1]];
      if (e.altKey) nudge = Math.max(-100, Math.min(100, Math.round((note.nudge_ms + (dx / this.rows.perBar) * (240_000 / page.song.bpm)) * 2) / 2));
      else if (Math.abs(dy) > 2) velocity = Math.max(0.05, Math.min(1, Math.round((note.velocity - dy / 60) * 100) / 100));
      hit.style.height = `${5 + velocity * (TALL - 9)}px`;
      hit.style.left = `calc(${barsWide(note.tick / BAR + nudge / (240_000 / page.song.bpm))})`;
    };
    drag(event, hit, { move, done: (kept) => {
      if (!kept) return void page.draw();
      const [louder, later] = [velocity - note.velocity, nudge - note.nudge_ms];
      if (later) page.change(row, (n) => ({ nudge_ms: Math.max(-100, Math.min(100, n.nudge_ms + later)) }), `nudged by ${later} ms`);
      else if (louder) page.change(row, (n) => ({ velocity: Math.max(0.05, Math.min(1, Number((n.velocity + louder).toFixed(2)))) }), "velocities");
      else if (was && !event.shiftKey) page.remove(row, [note]);
      else page.draw();
      return undefined;
    } });
  }

  /** @param {NoteRow} row
   *  @param {number} tick */
  #add(row, tick) {
    const { page } = this, last = page.chosen(row)[0];
    const note = plainNote({ tick, ticks: Math.min(240, page.grid), midi: row.playsPitch ? row.middle : 60, velocity: last?.velocity ?? 0.85 });
    page.hear(row, note);
    return page.add(row, note, "a hit more", (n) => n.tick === tick);
  }

  // The keyboard: a place in the row that moves by the grid, a hit set or taken out there.

  /** @param {NoteRow} row
   *  @param {number} tick */
  #at(row, tick) {
    return this.page.patternOf(row)?.notes.find((n) => n.tick === tick);
  }

  /** @param {NoteRow} row
   *  @param {Element} lane */
  #said(row, lane) {
    const tick = this.cursors[row.id] ?? 0, note = this.#at(row, tick);
    lane.setAttribute("aria-label", `${row.name}: ${this.nameOf({ tick })}, ${note ? `hit, velocity ${Math.round(note.velocity * 100)} %` : "empty"}. Arrow keys move, Enter sets or deletes.`);
  }

  /** @param {NoteRow} row
   *  @param {Element} lane */
  #cursor(row, lane) {
    lane.querySelector(".cursor")?.remove();
    lane.append(place(node("i", "cursor"), (this.cursors[row.id] ?? 0) / BAR, this.page.grid / BAR));
    this.#said(row, lane);
  }

  /** @param {KeyboardEvent} event
   *  @param {NoteRow} row
   *  @param {HTMLElement} lane
   *  @param {number} length */
  #key(event, row, lane, length) {
    if (event.target !== lane || event.ctrlKey || event.metaKey) return;
    const { page } = this, tick = this.cursors[row.id] ?? 0, note = this.#at(row, tick);
    const lanes = [.../** @type {NodeListOf<HTMLElement>} */ (this.host.querySelectorAll("[data-lane]"))];
    /** @type {Record<string, () => unknown>} */
    const acts = {
      ArrowRight: () => { if (event.altKey && note) return this.#change(row, note, (n) => ({ nudge_ms: n.nudge_ms + 1 })); this.cursors[row.id] = Math.min(length - page.grid, tick + page.grid); return this.#cursor(row, lane); },
      ArrowLeft: () => { if (event.altKey && note) return this.#change(row, note, (n) => ({ nudge_ms: n.nudge_ms - 1 })); this.cursors[row.id] = Math.max(0, tick - page.grid); return this.#cursor(row, lane); },
      ArrowUp: () => (event.shiftKey && note ? this.#change(row, note, (n) => ({ velocity: Math.min(1, Number((n.velocity + 0.05).toFixed(2))) })) : lanes[lanes.indexOf(lane) - 1]?.focus()),
      ArrowDown: () => (event.shiftKey && note ? this.#change(row, note, (n) => ({ velocity: Math.max(0.05, Number((n.velocity - 0.05).toFixed(2))) })) : lanes[lanes.indexOf(lane) + 1]?.focus()),
      Enter: () => (note ? page.remove(row, [note]) : this.#add(row, tick)),
      Delete: () => note && page.remove(row, [note]),
    };
    const act = acts[event.key];
    if (!act) return;
    event.preventDefault();
    event.stopPropagation();
    act();
  }

  /** @param {NoteRow} row
   *  @param {Note} note
   *  @param {(note: Note) => Partial<Note>} by */
  #change(row, note, by) {
    const { page } = this;
    return page.write(row, (notes) => {
      const made = notes.map((n) => (page.key(n) === page.key(note) ? { ...n, ...by(n) } : n));
      return [made, made.filter((n) => page.key(n) === page.key(note))];
    }, "a hit changed");
  }
}
