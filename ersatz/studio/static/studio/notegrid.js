// @ts-check
// The note grid: rows are pitches, those of the song's scale tall and named by their degree, the others thin; the reference's bass and
// chords show through in blue.

import { barsWide, place } from "./bars.js";
import { button, mark, node } from "./dom.js";
import { drag } from "./drag.js";
import { plainNote } from "./notespage.js";
import { noteName, placeSaid, tonicClass } from "./pitches.js";
import { tip } from "./tips.js";
import { TICKS_PER_BAR as BAR } from "./vocabulary.js";

/** @typedef {import("./notespage.js").Note} Note */
/** @typedef {import("./notespage.js").NoteRow} NoteRow */
/** @typedef {import("./states").Pattern} Pattern */
/** Where in the grid: ticks, and a pitch.
 *  @typedef {[tick: number, midi: number]} Place */

const INSIDE = 15, OUTSIDE = 8, VELOCITY_TALL = 42;
const DEGREES = ["1", "♭2", "2", "♭3", "3", "4", "♭5", "5", "♭6", "6", "♭7", "7"];

export class NoteGrid {
  /** @param {{ rows: import("./bars.js").BarRows, page: import("./notespage.js").NotesPage, host: HTMLElement }} options */
  constructor({ rows, page, host }) {
    this.rows = rows;
    this.page = page;
    this.host = host;
    this.bars = 1;
    /** Whether notes that are written fall on the scale. */
    this.snaps = true;
    /** Semitones that the view is moved by. */
    this.shift = 0;
    /** Pixels from the top, by pitch, from the highest down.
     *  @type {Map<number, number>} */
    this.tops = new Map();
    this.lane = node("div");
    host.addEventListener("keydown", (event) => this.#key(event));
  }

  /** @param {number} midi */
  pitchName(midi) {
    return noteName(midi, this.page.song.key);
  }

  /** @param {Pick<Note, "tick" | "midi">} note */
  nameOf(note) {
    return `${this.pitchName(note.midi)}, ${placeSaid(note.tick, BAR)}`;
  }

  /** Only a part that has a row is drawn. */
  get row() {
    return /** @type {NoteRow} */ (this.page.rowOf());
  }

  get pattern() {
    return /** @type {Pattern} */ (this.page.patternOf(this.row));
  }

  get tonic() {
    return tonicClass(this.page.song.key[0]);
  }

  /** @param {number} midi */
  inScale(midi) {
    return this.page.song.scale.includes(((midi % 12) + 12) % 12);
  }

  /** The pitches shown, from the highest down: what is played and two octaves at least. */
  #pitches() {
    const notes = this.page.patternOf(this.row)?.notes ?? [], bass = this.row.role === "bass" ? this.page.there()?.bass ?? [] : [];
    const played = [...notes.map((n) => n.midi), ...bass.map((n) => n[2])];
    const middle = this.row.middle, low = Math.min(middle - 7, ...played) - 2, high = Math.max(middle + 14, ...played) + 2;
    const from = Math.max(0, Math.max(low, high - 36) + this.shift), to = Math.min(127, Math.max(high, from + 24) + this.shift);
    return Array.from({ length: to - from + 1 }, (_, i) => to - i);
  }

  draw() {
    const { page, rows } = this, pattern = page.rowOf() && page.patternOf(this.row);
    this.bars = pattern?.bars ?? 1;
    const fresh = rows.bars !== this.bars || !rows.perBar;
    rows.clear(this.bars);
    if (fresh && this.bars > 4) rows.show(0, 4);
    rows.ruler(() => {});
    if (!pattern) return;
    if (page.there()?.chords.length) this.#chords();
    const pitches = this.#pitches();
    /** @type {Map<number, number>} */
    const tops = new Map();
    let tall = 0;
    for (const midi of pitches) {
      tops.set(midi, tall);
      tall += this.inScale(midi) ? INSIDE : OUTSIDE;
    }
    this.tops = tops;
    const head = node("div", "pitches");
    head.style.height = `${tall}px`;
    for (const midi of pitches) {
      if (!this.inScale(midi)) continue;
      const name = node("span", (midi - this.tonic) % 12 === 0 ? "tonic" : "");
      name.style.top = `${tops.get(midi)}px`;
      name.append(node("b", "", DEGREES[(midi - this.tonic + 120) % 12]), node("small", "soft", this.pitchName(midi)));
      head.append(name);
    }
    this.lane = rows.row(head, tall, "pitchrows");
    this.lane.style.setProperty("--cell", `calc(${barsWide(page.grid / BAR)})`);
    for (const midi of pitches) {
      const line = node("i", `pitch${this.inScale(midi) ? "" : " out"}${(midi - this.tonic) % 12 === 0 ? " tonic" : ""}`);
      Object.assign(line.style, { top: `${tops.get(midi)}px`, height: `${this.inScale(midi) ? INSIDE : OUTSIDE}px` });
      this.lane.append(line);
    }
    this.#reference(pattern);
    for (const note of pattern.notes) if (tops.has(note.midi)) this.lane.append(this.#note(note));
    this.lane.addEventListener("pointerdown", (event) => this.#down(event));
    this.lane.tabIndex = 0;
    this.lane.dataset.lane = this.row.id;
    this.lane.setAttribute("aria-label", "Notes. Enter writes one at the place in hand; arrow keys move what is in hand; Tab goes through the notes.");
    this.lane.setAttribute("role", "application");
    this.#velocities(pattern);
  }

  /** The reference's bass where the row is a bass, thin and outlined.
   *  @param {Pattern} pattern */
  #reference(pattern) {
    if (this.row.role !== "bass") return;
    for (const [tick, ticks, midi] of this.page.there()?.bass ?? []) {
      if (tick >= pattern.bars * BAR || !this.tops.has(midi)) continue;
      const mark = place(node("i", "refnote"), tick / BAR, Math.min(ticks, pattern.bars * BAR - tick) / BAR, 0.5);
      Object.assign(mark.style, { top: `${this.tops.get(midi)}px`, height: `${this.inScale(midi) ? INSIDE : OUTSIDE}px` });
      this.lane.append(mark);
    }
  }

  #chords() {
    const lane = this.rows.row(node("b", "ref", "Chords"), 22, "chordrow");
    for (const [bar, bars, name] of this.page.there()?.chords ?? []) {
      if (bar >= this.bars) continue;
      const mark = place(node("i", "refchord", name.replace("b", "♭").replace("#", "♯")), bar, Math.min(bars, this.bars - bar), 1);
      lane.append(mark);
    }
  }

  /** @param {Note} note */
  #note(note) {
    const { page, row } = this, key = page.placeOf(row, note), inside = this.inScale(note.midi);
    const made = place(node("button", "note"), note.tick / BAR + note.nudge_ms / (240_000 / page.song.bpm), note.ticks / BAR);
    made.type = "button";
    made.dataset.note = key;
    Object.assign(made.style, { top: `${this.tops.get(note.midi)}px`, height: `${inside ? INSIDE : OUTSIDE}px`, opacity: String(0.45 + 0.55 * note.velocity) });
    made.classList.toggle("chosen", page.picked.has(key));
    made.classList.toggle("locked", page.locked.has(key));
    for (let k = 1; k < note.repeats; k += 1) {
      const cut = node("i", "cut");
      cut.style.left = `${(100 * k) / note.repeats}%`;
      made.append(cut);
    }
    if (note.bend.length) {
      const from = note.bend[0][1], by = note.bend[note.bend.length - 1][1];
      made.append(mark("", `${from ? `${from > 0 ? "↘" : "↗"}${Math.abs(from)} ` : ""}${by ? `${by > 0 ? "↗" : "↘"}${Math.abs(by)}` : ""}`, "small"));
    }
    made.setAttribute("aria-label", `${this.nameOf(note)}, ${Number((note.ticks / 240).toFixed(2))} 16ths long, velocity ${Math.round(note.velocity * 100)} %`);
    made.append(node("i", "end"));
    made.addEventListener("pointerdown", (event) => this.#drag(event, note, made));
    made.addEventListener("focus", () => { if (!page.picked.has(key)) { page.pick(row, [note]); page.tools(); this.#mark(); } });
    made.addEventListener("contextmenu", (event) => { event.preventDefault(); page.remove(row, [note]); });
    return made;
  }

  #mark() {
    for (const made of /** @type {NodeListOf<HTMLElement>} */ (this.lane.querySelectorAll(".note"))) made.classList.toggle("chosen", this.page.picked.has(made.dataset.note ?? ""));
  }

  /** The pitch under a pointer; on the scale where that is wanted.
   *  @param {number} clientY */
  #pitchAt(clientY) {
    const y = clientY - this.lane.getBoundingClientRect().top;
    let found = [...this.tops.keys()][0];
    for (const [midi, top] of this.tops) if (top <= y) found = midi;
    return found;
  }

  /** @param {number} midi */
  snapped(midi) {
    if (!this.snaps || this.inScale(midi)) return midi;
    return this.inScale(midi - 1) ? midi - 1 : midi + 1;
  }

  /** @param {PointerEvent} event */
  #down(event) {
    if (/** @type {Element} */ (event.target).closest(".note") || event.button !== 0) return undefined;
    const { page, row, rows, pattern } = this, start = rows.barAt(event.clientX) * BAR, y = event.clientY;
    if (event.shiftKey) return this.#rectangle(event);
    const tick = page.snap(start), midi = this.snapped(this.#pitchAt(y));
    const note = plainNote({ tick, ticks: page.lastLength ?? page.grid, midi, velocity: 0.85 });
    note.ticks = Math.min(note.ticks, pattern.bars * BAR - tick);
    page.hear(row, note);
    const ghost = this.#note(note);
    this.lane.append(ghost);
    const move = (/** @type {PointerEvent} */ e) => {
      const ticks = page.snap(rows.barAt(e.clientX) * BAR - tick) + page.grid;
      if (Math.abs(e.clientX - event.clientX) > 5) note.ticks = Math.max(page.grid, Math.min(ticks, pattern.bars * BAR - tick));
      place(ghost, tick / BAR, note.ticks / BAR);
    };
    drag(event, this.lane, { move, done: (kept) => {
      if (!kept) return void ghost.remove();
      page.lastLength = note.ticks;
      return void page.add(row, note, "a note more", (n) => page.key(n) === page.key(note));
    } });
    return undefined;
  }

  /** @param {PointerEvent} event */
  #rectangle(event) {
    const { page, row, rows } = this, at = (/** @type {PointerEvent} */ e) => /** @type {Place} */ ([rows.barAt(e.clientX) * BAR, this.#pitchAt(e.clientY)]), from = at(event), box = node("i", "rubber");
    this.lane.append(box);
    const move = (/** @type {PointerEvent} */ e) => {
      const to = at(e);
      const [a, b] = [Math.min(from[0], to[0]), Math.max(from[0], to[0])], [top, bottom] = [Math.max(from[1], to[1]), Math.min(from[1], to[1])];
      place(box, a / BAR, (b - a) / BAR);
      Object.assign(box.style, { top: `${this.tops.get(top)}px`, height: `${(this.tops.get(bottom) ?? 0) - (this.tops.get(top) ?? 0) + INSIDE}px` });
      const inside = this.pattern.notes.filter((n) => n.tick < b && n.tick + n.ticks > a && n.midi >= bottom && n.midi <= top);
      page.pick(row, inside);
      this.#mark();
    };
    drag(event, this.lane, { move, done: () => {
      box.remove();
      page.tools();
    } });
  }

  /** @param {PointerEvent} event
   *  @param {Note} note
   *  @param {HTMLElement} made */
  #drag(event, note, made) {
    if (event.button !== 0) return;
    event.stopPropagation();
    const { page, row, rows } = this, key = page.placeOf(row, note), was = page.picked.has(key);
    if (event.shiftKey || !was) page.pick(row, [note], event.shiftKey);
    made.focus({ preventScroll: true });
    this.#mark();
    page.hear(row, note);
    const lengthens = Boolean(/** @type {Element} */ (event.target).closest(".end")), start = rows.barAt(event.clientX) * BAR;
    // How much longer, later and higher.
    const moved = { longer: 0, later: 0, up: 0 };
    const move = (/** @type {PointerEvent} */ e) => {
      const by = Math.round((rows.barAt(e.clientX) * BAR - start) / page.grid) * page.grid;
      if (lengthens) {
        moved.longer = Math.max(30, note.ticks + by) - note.ticks;
        place(made, note.tick / BAR, (note.ticks + moved.longer) / BAR);
      } else {
        Object.assign(moved, { later: by, up: this.snapped(this.#pitchAt(e.clientY)) - note.midi });
        place(made, (note.tick + by) / BAR, note.ticks / BAR);
        made.style.top = `${this.tops.get(note.midi + moved.up) ?? 0}px`;
      }
    };
    drag(event, made, { move, done: (kept) => {
      if (!kept) page.draw();
      else if (moved.longer) {
        page.lastLength = note.ticks + moved.longer;
        page.change(row, (n) => ({ ticks: Math.max(30, n.ticks + moved.longer) }), "lengths");
      } else if (moved.later || moved.up) this.#move(moved.later, () => moved.up);
      else page.tools();
    } });
  }

  /** What is in hand, later and higher, kept inside the pattern.
   *  @param {number} ticks
   *  @param {(note: Note) => number} up */
  #move(ticks, up) {
    const { page, row } = this, length = this.pattern.bars * BAR;
    return page.change(row, (n, chosen) => {
      const by = Math.max(-Math.min(...chosen.map((c) => c.tick)), Math.min(ticks, length - 1 - Math.max(...chosen.map((c) => c.tick))));
      return { tick: n.tick + by, midi: Math.max(0, Math.min(127, n.midi + up(n))) };
    }, "notes moved");
  }

  /** Semitones to the next degree of the scale.
   *  @param {number} midi
   *  @param {number} way */
  #degree(midi, way) {
    if (!this.snaps) return way;
    let by = way;
    while (!this.inScale(midi + by)) by += way;
    return by;
  }

  /** @param {KeyboardEvent} event */
  #key(event) {
    if (!/** @type {Element} */ (event.target).closest(".pitchrows")) return;
    const { page, row, pattern } = this, chosen = page.chosen(row);
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "a") {
      event.preventDefault();
      page.pick(row, pattern.notes);
      this.#mark();
      page.tools();
      return;
    }
    if (event.ctrlKey || event.metaKey) return;
    // What is in hand may be under way still: its next step takes its turn behind it.
    /** @type {Record<string, () => unknown>} */
    const acts = page.picked.size ? {
      ArrowUp: () => this.#move(0, (n) => (event.shiftKey ? 12 : this.#degree(n.midi, 1))),
      ArrowDown: () => this.#move(0, (n) => (event.shiftKey ? -12 : this.#degree(n.midi, -1))),
      ArrowLeft: () => (event.altKey ? page.change(row, (n) => ({ ticks: Math.max(30, n.ticks - page.grid) }), "lengths") : this.#move(-page.grid, () => 0)),
      ArrowRight: () => (event.altKey ? page.change(row, (n) => ({ ticks: n.ticks + page.grid }), "lengths") : this.#move(page.grid, () => 0)),
      Delete: () => page.remove(row, chosen),
      Backspace: () => page.remove(row, chosen),
    } : {};
    const act = event.key === "Enter" && event.target === this.lane ? () => this.#write(chosen) : acts[event.key];
    if (!act) return;
    event.preventDefault();
    event.stopPropagation();
    act();
  }

  /** A note behind the one in hand, or at the beginning.
   *  @param {Note[]} chosen */
  #write(chosen) {
    const { page, row, pattern } = this, last = chosen[chosen.length - 1];
    const tick = last ? last.tick + last.ticks : 0;
    if (tick >= pattern.bars * BAR) return undefined;
    const note = plainNote({ tick: page.snap(tick + page.grid - 1), ticks: page.grid, midi: last?.midi ?? this.snapped(row.middle), velocity: 0.85 });
    return note.tick >= pattern.bars * BAR ? undefined : page.add(row, note, "a note more", (n) => page.key(n) === page.key(note));
  }

  /** Velocities as bars that are dragged.
   *  @param {Pattern} pattern */
  #velocities(pattern) {
    const { page, row } = this, lane = this.rows.row(node("small", "soft", "Velocity"), VELOCITY_TALL, "velocities");
    for (const note of pattern.notes) {
      const bar = place(node("i", "velocity"), note.tick / BAR, 0.012);
      bar.style.height = `${note.velocity * (VELOCITY_TALL - 4)}px`;
      bar.classList.toggle("chosen", page.picked.has(page.placeOf(row, note)));
      tip(bar, `${this.nameOf(note)}: ${Math.round(note.velocity * 100)} %`);
      bar.addEventListener("pointerdown", (event) => {
        let velocity = note.velocity;
        const move = (/** @type {PointerEvent} */ e) => {
          velocity = Math.max(0.05, Math.min(1, 1 - (e.clientY - lane.getBoundingClientRect().top) / VELOCITY_TALL));
          bar.style.height = `${velocity * (VELOCITY_TALL - 4)}px`;
        };
        drag(event, bar, { move, done: (kept) => {
          if (!kept) page.draw();
          if (!kept || velocity === note.velocity) return;
          const chosen = page.chosen(row), loud = Number(velocity.toFixed(2));
          const heard = new Set([note, ...chosen.filter((n) => n.tick === note.tick)].map((n) => page.key(n)));
          page.write(row, (notes) => [notes.map((n) => (heard.has(page.key(n)) ? { ...n, velocity: loud } : n)), chosen], "velocities");
        } });
      });
      lane.append(bar);
    }
  }

  /** What the pattern tools have more for notes than for hits.
   *  @param {HTMLElement} box */
  moreTools(box) {
    const snap = button("Snap to scale", () => { this.snaps = !this.snaps; this.page.draw(); });
    snap.setAttribute("aria-pressed", String(this.snaps));
    box.append(snap, button("Lower", () => { this.shift -= 12; this.page.draw(); }), button("Higher", () => { this.shift += 12; this.page.draw(); }));
  }
}
