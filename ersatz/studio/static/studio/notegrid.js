// The note grid: rows are pitches, those of the song's scale tall and named by their degree, the others thin; the reference's bass and
// chords show through in blue.

import { barsWide, place } from "./bars.js";
import { button, mark, node } from "./dom.js";
import { drag } from "./drag.js";
import { noteName, placeSaid, tonicClass } from "./pitches.js";
import { TICKS_PER_BAR as BAR } from "./vocabulary.js";

const INSIDE = 15, OUTSIDE = 8, VELOCITY_TALL = 42;
const DEGREES = ["1", "♭2", "2", "♭3", "3", "4", "♭5", "5", "♭6", "6", "♭7", "7"];

export class NoteGrid {
  constructor({ rows, page, host }) {
    Object.assign(this, { rows, page, host, bars: 1, snaps: true, shift: 0 });
    host.addEventListener("keydown", (event) => this.#key(event));
  }

  pitchName(midi) {
    return noteName(midi, this.page.song.key);
  }

  nameOf(note) {
    return `${this.pitchName(note.midi)}, ${placeSaid(note.tick, BAR)}`;
  }

  get row() {
    return this.page.rowOf();
  }

  get tonic() {
    return tonicClass(this.page.song.key[0]);
  }

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
    const { page, rows } = this, pattern = this.row && page.patternOf(this.row);
    this.bars = pattern?.bars ?? 1;
    const fresh = rows.bars !== this.bars || !rows.perBar;
    rows.clear(this.bars);
    if (fresh && this.bars > 4) rows.show(0, 4);
    rows.ruler(() => {});
    if (!pattern) return;
    if (page.there()?.chords.length) this.#chords();
    const pitches = this.#pitches(), tops = new Map();
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

  /** The reference's bass where the row is a bass, thin and outlined. */
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
    for (const [bar, bars, name] of this.page.there().chords) {
      if (bar >= this.bars) continue;
      const mark = place(node("i", "refchord", name.replace("b", "♭").replace("#", "♯")), bar, Math.min(bars, this.bars - bar), 1);
      lane.append(mark);
    }
  }

  #note(note) {
    const { page, row } = this, key = `${row.id}/${page.key(note)}`, inside = this.inScale(note.midi);
    const made = place(node("button", "note"), note.tick / BAR + note.nudge_ms / (240_000 / page.song.bpm), note.ticks / BAR);
    made.type = "button";
    made.dataset.note = key;
    Object.assign(made.style, { top: `${this.tops.get(note.midi)}px`, height: `${inside ? INSIDE : OUTSIDE}px`, opacity: 0.45 + 0.55 * note.velocity });
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
    for (const made of this.lane.querySelectorAll(".note")) made.classList.toggle("chosen", this.page.picked.has(made.dataset.note));
  }

  /** The pitch under a pointer; on the scale where that is wanted. */
  #pitchAt(clientY) {
    const y = clientY - this.lane.getBoundingClientRect().top;
    let found = [...this.tops.keys()][0];
    for (const [midi, top] of this.tops) if (top <= y) found = midi;
    return found;
  }

  snapped(midi) {
    if (!this.snaps || this.inScale(midi)) return midi;
    return this.inScale(midi - 1) ? midi - 1 : midi + 1;
  }

  #down(event) {
    if (event.target.closest(".note") || event.button !== 0) return;
    const { page, row, rows } = this, pattern = page.patternOf(row), start = rows.barAt(event.clientX) * BAR, y = event.clientY;
    if (event.shiftKey) return this.#rectangle(event);
    const tick = page.snap(start), midi = this.snapped(this.#pitchAt(y));
    const note = { tick, ticks: page.lastLength ?? page.grid, midi, velocity: 0.85, bend: [], nudge_ms: 0, semitones: 0, repeats: 1, pan: 0, level: [] };
    note.ticks = Math.min(note.ticks, pattern.bars * BAR - tick);
    page.hear(row, note);
    const ghost = this.#note(note);
    this.lane.append(ghost);
    const move = (e) => {
      const ticks = page.snap(rows.barAt(e.clientX) * BAR - tick) + page.grid;
      if (Math.abs(e.clientX - event.clientX) > 5) note.ticks = Math.max(page.grid, Math.min(ticks, pattern.bars * BAR - tick));
      place(ghost, tick / BAR, note.ticks / BAR);
    };
    drag(event, this.lane, { move, done: (kept) => {
      if (!kept) return ghost.remove();
      page.lastLength = note.ticks;
      return page.add(row, note, "a note more", (n) => page.key(n) === page.key(note));
    } });
    return undefined;
  }

  #rectangle(event) {
    const { page, row, rows } = this, from = [rows.barAt(event.clientX) * BAR, this.#pitchAt(event.clientY)], box = node("i", "rubber");
    this.lane.append(box);
    let to = from;
    const move = (e) => {
      to = [rows.barAt(e.clientX) * BAR, this.#pitchAt(e.clientY)];
      const [a, b] = [Math.min(from[0], to[0]), Math.max(from[0], to[0])], [top, bottom] = [Math.max(from[1], to[1]), Math.min(from[1], to[1])];
      place(box, a / BAR, (b - a) / BAR);
      Object.assign(box.style, { top: `${this.tops.get(top)}px`, height: `${this.tops.get(bottom) - this.tops.get(top) + INSIDE}px` });
      const inside = page.patternOf(row).notes.filter((n) => n.tick < b && n.tick + n.ticks > a && n.midi >= bottom && n.midi <= top);
      page.pick(row, inside);
      this.#mark();
    };
    drag(event, this.lane, { move, done: () => {
      box.remove();
      page.tools();
    } });
  }

  #drag(event, note, made) {
    if (event.button !== 0) return;
    event.stopPropagation();
    const { page, row, rows } = this, key = `${row.id}/${page.key(note)}`, was = page.picked.has(key);
    if (event.shiftKey || !was) page.pick(row, [note], event.shiftKey);
    made.focus({ preventScroll: true });
    this.#mark();
    page.hear(row, note);
    const lengthens = Boolean(event.target.closest(".end")), start = rows.barAt(event.clientX) * BAR;
    let moved = null;
    const move = (e) => {
      const by = Math.round((rows.barAt(e.clientX) * BAR - start) / page.grid) * page.grid;
      if (lengthens) {
        moved = { ticks: Math.max(30, note.ticks + by) };
        place(made, note.tick / BAR, moved.ticks / BAR);
      } else {
        moved = { by, up: this.snapped(this.#pitchAt(e.clientY)) - note.midi };
        place(made, (note.tick + by) / BAR, note.ticks / BAR);
        made.style.top = `${this.tops.get(note.midi + moved.up) ?? 0}px`;
      }
    };
    drag(event, made, { move, done: (kept) => {
      if (!kept) page.draw();
      else if (moved && lengthens && moved.ticks !== note.ticks) {
        page.lastLength = moved.ticks;
        page.change((n) => ({ ticks: Math.max(30, n.ticks + moved.ticks - note.ticks) }), "lengths");
      } else if (moved && !lengthens && (moved.by || moved.up)) this.#move(moved.by, () => moved.up);
      else page.tools();
    } });
  }

  /** What is in hand, later and higher, kept inside the pattern. */
  #move(ticks, up) {
    const { page, row } = this, length = page.patternOf(row).bars * BAR;
    return page.change((n, chosen) => {
      const by = Math.max(-Math.min(...chosen.map((c) => c.tick)), Math.min(ticks, length - 1 - Math.max(...chosen.map((c) => c.tick))));
      return { tick: n.tick + by, midi: Math.max(0, Math.min(127, n.midi + up(n))) };
    }, "notes moved");
  }

  /** Semitones to the next degree of the scale. */
  #degree(midi, way) {
    if (!this.snaps) return way;
    let by = way;
    while (!this.inScale(midi + by)) by += way;
    return by;
  }

  #key(event) {
    if (!event.target.closest(".pitchrows")) return;
    const { page, row } = this, chosen = page.chosen(row), pattern = page.patternOf(row);
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "a") {
      event.preventDefault();
      page.pick(row, pattern.notes);
      this.#mark();
      page.tools();
      return;
    }
    if (event.ctrlKey || event.metaKey) return;
    // What is in hand may be under way still: its next step takes its turn behind it.
    const acts = page.picked.size ? {
      ArrowUp: () => this.#move(0, (n) => (event.shiftKey ? 12 : this.#degree(n.midi, 1))),
      ArrowDown: () => this.#move(0, (n) => (event.shiftKey ? -12 : this.#degree(n.midi, -1))),
      ArrowLeft: () => (event.altKey ? page.change((n) => ({ ticks: Math.max(30, n.ticks - page.grid) }), "lengths") : this.#move(-page.grid, () => 0)),
      ArrowRight: () => (event.altKey ? page.change((n) => ({ ticks: n.ticks + page.grid }), "lengths") : this.#move(page.grid, () => 0)),
      Delete: () => page.remove(row, chosen),
      Backspace: () => page.remove(row, chosen),
    } : {};
    const act = event.key === "Enter" && event.target === this.lane ? () => this.#write(chosen) : acts[event.key];
    if (!act) return;
    event.preventDefault();
    event.stopPropagation();
    act();
  }

  /** A note behind the one in hand, or at the beginning. */
  #write(chosen) {
    const { page, row } = this, pattern = page.patternOf(row), last = chosen[chosen.length - 1];
    const tick = last ? last.tick + last.ticks : 0;
    if (tick >= pattern.bars * BAR) return undefined;
    const note = { tick: page.snap(tick + page.grid - 1), ticks: page.grid, midi: last?.midi ?? this.snapped(row.middle), velocity: 0.85, bend: [], nudge_ms: 0, semitones: 0, repeats: 1, pan: 0, level: [] };
    return note.tick >= pattern.bars * BAR ? undefined : page.add(row, note, "a note more", (n) => page.key(n) === page.key(note));
  }

  /** Velocities as bars that are dragged. */
  #velocities(pattern) {
    const { page, row } = this, lane = this.rows.row(node("small", "soft", "Velocity"), VELOCITY_TALL, "velocities");
    for (const note of pattern.notes) {
      const bar = place(node("i", "velocity"), note.tick / BAR, 0.012);
      bar.style.height = `${note.velocity * (VELOCITY_TALL - 4)}px`;
      bar.classList.toggle("chosen", page.picked.has(`${row.id}/${page.key(note)}`));
      bar.title = `${this.nameOf(note)}: ${Math.round(note.velocity * 100)} %`;
      bar.addEventListener("pointerdown", (event) => {
        let velocity = note.velocity;
        const move = (e) => {
          velocity = Math.max(0.05, Math.min(1, 1 - (e.clientY - lane.getBoundingClientRect().top) / VELOCITY_TALL));
          bar.style.height = `${velocity * (VELOCITY_TALL - 4)}px`;
        };
        drag(event, bar, { move, done: (kept) => {
          if (!kept) page.draw();
          if (!kept || velocity === note.velocity) return;
          const chosen = page.chosen(row), loud = Number(velocity.toFixed(2));
          const heard = new Set([note, ...chosen.filter((n) => n.tick === note.tick)].map(page.key));
          page.write(row, (notes) => [notes.map((n) => (heard.has(page.key(n)) ? { ...n, velocity: loud } : n)), chosen], "velocities");
        } });
      });
      lane.append(bar);
    }
  }

  moreTools(box) {
    const snap = button("Snap to scale", () => { this.snaps = !this.snaps; this.page.draw(); });
    snap.setAttribute("aria-pressed", String(this.snaps));
    box.append(snap, button("Lower", () => { this.shift -= 12; this.page.draw(); }), button("Higher", () => { this.shift += 12; this.page.draw(); }));
  }
}
