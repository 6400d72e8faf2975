// @ts-check
// The page of notes as its grids and tools share it: what stands, what is in hand, and how it is changed.

import { TICKS_PER_BAR } from "./vocabulary.js";

/** @typedef {import("./states").Note} Note */
/** @typedef {import("./states").NoteRow} NoteRow */
/** @typedef {import("./states").NotesState & import("./states").NotesFixed} NotesSong */
/** Notes of a pattern anew, and those of them that stay in hand; null for nothing to do.
 *  @typedef {[notes: Note[], keep?: Note[]] | null | undefined} Made */

/** A note without anything special.
 *  @param {Pick<Note, "tick" | "ticks" | "midi" | "velocity">} more
 *  @returns {Note} */
export const plainNote = (more) => ({ bend: [], nudge_ms: 0, semitones: 0, repeats: 1, pan: 0, level: [], ...more });

export class NotesPage {
  /** `send` takes edits; `draw` draws everything, `tools` what is beneath the grid; `hear(row, note)` plays one note.
   *  @param {NotesSong} song
   *  @param {{ send: import("./edits.js").Send, draw: () => void, tools: () => void, hear: (row: NoteRow, note: Note) => void, bring: (file: File) => void }} acts */
  constructor(song, { send, draw, tools, hear, bring }) {
    this.song = song;
    this.send = send;
    this.draw = draw;
    this.tools = tools;
    this.hear = hear;
    /** Brings a MIDI file into the pattern in hand. */
    this.bring = bring;
    /** Id of the row in hand. */
    this.row = song.part;
    /** The pattern that is shown, by row.
     *  @type {Record<string, string>} */
    this.shown = {};
    /** Notes in hand and locked ones, as "row/key".
     *  @type {Set<string>} */
    this.picked = new Set();
    /** @type {Set<string>} */
    this.locked = new Set();
    /** Ticks. */
    this.grid = TICKS_PER_BAR / 16;
    /** @type {Set<string>} */
    this.muted = new Set();
    /** @type {Set<string>} */
    this.soloed = new Set();
    /** Id of the section that is worked in. */
    this.section = song.sections[0]?.id ?? "";
    /** Ticks of the note written last.
     *  @type {number | undefined} */
    this.lastLength = undefined;
  }

  /** A row by id, or the one in hand, or else the first; a part without patterns has none. */
  rowOf(id = this.row) {
    return /** @type {NoteRow | undefined} */ (this.song.rows.find((r) => r.id === id) ?? this.song.rows[0]);
  }

  /** Name of the pattern that a row shows: the chosen one, or what it plays in the section.
   *  @param {NoteRow} row */
  nameOf(row) {
    const names = Object.keys(row.patterns), here = row.cells[this.section]?.[0];
    return [this.shown[row.id], here].find((name) => names.includes(name)) ?? names[0];
  }

  /** @param {NoteRow} row */
  patternOf(row) {
    return /** @type {import("./states").Pattern | undefined} */ (row.patterns[this.nameOf(row)]);
  }

  sectionOf() {
    return this.song.sections.find((s) => s.id === this.section) ?? this.song.sections[0];
  }

  /** What the reference has in the section, or null. */
  there() {
    const at = this.sectionOf()?.reference;
    return at === null || at === undefined ? null : this.song.reference[at] ?? null;
  }

  /** @param {Pick<Note, "tick" | "midi">} note */
  key(note) {
    return `${note.tick}.${note.midi}`;
  }

  /** As it is known in hand and on the page.
   *  @param {NoteRow} row
   *  @param {Pick<Note, "tick" | "midi">} note */
  placeOf(row, note) {
    return `${row.id}/${this.key(note)}`;
  }

  /** The notes of a row that are in hand.
   *  @param {NoteRow} row */
  chosen(row) {
    return (this.patternOf(row)?.notes ?? []).filter((n) => this.picked.has(this.placeOf(row, n)));
  }

  /** @param {NoteRow} row
   *  @param {Note[]} notes */
  pick(row, notes, add = false) {
    this.row = row.id;
    if (!add) this.picked.clear();
    for (const n of notes) this.picked.add(this.placeOf(row, n));
  }

  /** The row's notes anew: `make(notes)` gives them from what stands when its turn comes.
   *  @param {NoteRow} row
   *  @param {(notes: Note[]) => Made} make
   *  @param {string} said
   *  @param {object} change */
  write(row, make, said, change = {}) {
    const name = this.nameOf(row);
    return this.send(() => {
      const pattern = this.song.rows.find((r) => r.id === row.id)?.patterns[name], made = pattern && make(pattern.notes);
      if (!made) return null;
      const [notes, keep = []] = made;
      this.pick(row, keep);
      return { kind: "write_notes", part: row.id, pattern: name, bars: pattern.bars, loop_ticks: pattern.loop_ticks, notes, said, ...change };
    });
  }

  /** One note more, in the place of what `same` finds there, and in hand.
   *  @param {NoteRow} row
   *  @param {Note} note
   *  @param {string} said
   *  @param {(note: Note) => boolean} same */
  add(row, note, said, same) {
    return this.write(row, (notes) => [[...notes.filter((n) => !same(n)), note], [note]], said);
  }

  /** Each note of a row that is in hand changed alike: `by(note, chosen)`.
   *  @param {NoteRow} row
   *  @param {(note: Note, chosen: Note[]) => Partial<Note>} by
   *  @param {string} said */
  change(row, by, said) {
    return this.write(row, (notes) => {
      const chosen = notes.filter((n) => this.picked.has(this.placeOf(row, n)));
      if (!chosen.length) return null;
      const after = new Map(chosen.map((n) => [n, { ...n, ...by(n, chosen) }]));
      return [notes.map((n) => after.get(n) ?? n), [...after.values()]];
    }, said);
  }

  /** @param {NoteRow} row
   *  @param {Note[]} gone */
  remove(row, gone) {
    const keys = new Set(gone.map((n) => this.key(n)));
    return this.write(row, (notes) => [notes.filter((n) => !keys.has(this.key(n)))], gone.length === 1 ? "a note less" : `${gone.length} notes less`);
  }

  /** The line of the grid in front of a tick.
   *  @param {number} tick */
  snap(tick) {
    return Math.floor(tick / this.grid + 1e-6) * this.grid;
  }
}
