// @ts-check
// The notes in hand: figures for all of them at once.

import { button, node } from "./dom.js";
import { plainField as field } from "./fields.js";
import { tip } from "./tips.js";
import { FIRST_SLICE } from "./vocabulary.js";

/** @typedef {import("./states").Note} Note */

/** Fills `box`; `nameOf(note)` says which note it is.
 *  @param {HTMLElement} box
 *  @param {import("./notespage.js").NotesPage} page
 *  @param {(note: Note) => string} nameOf */
export function handTools(box, page, nameOf) {
  const row = page.rowOf(), chosen = row ? page.chosen(row) : [];
  box.replaceChildren();
  if (!row || !chosen.length) {
    box.textContent = page.song.pitched
      ? "Click to write a note, drag it to move it, its end to lengthen it; Shift and drag takes several in hand. Arrow keys move them."
      : "Click to set a hit; drag it up or down for its velocity, with Alt sideways for its timing; a second click takes it out.";
    return;
  }
  const [n] = chosen, change = (/** @type {(n: Note) => Partial<Note>} */ by, /** @type {string} */ said) => page.change(row, by, said);
  box.append(
    node("b", "", chosen.length === 1 ? nameOf(n) : `${chosen.length} in hand`),
    field("Velocity", "velocity", "%", 2, 100, Math.round(n.velocity * 100), 1, (v) => change(() => ({ velocity: v / 100 }), `velocity ${v} %`)),
    field("Length", "length", "16ths", 0.25, 64, n.ticks / 240, 0.25, (v) => change(() => ({ ticks: Math.round(v * 240) }), `${v} 16ths long`)),
    field("Nudge", "nudge", "ms", -100, 100, n.nudge_ms, 0.5, (v) => change(() => ({ nudge_ms: v }), `nudged by ${v} ms`)),
  );
  box.append(field("Pan", "pan", "%", -100, 100, Math.round(n.pan * 100), 5, (v) => change(() => ({ pan: v / 100 }), `pan ${v} %`)));
  if (!page.song.pitched) box.append(field("Pitch", "pitch", "st", -24, 24, n.semitones, 1, (v) => change(() => ({ semitones: v }), `pitched by ${v} semitones`)));
  if (row.slices && !page.song.pitched) box.append(field("Slice", "key", "", 1, row.slices, ((n.midi - FIRST_SLICE) % row.slices + row.slices) % row.slices + 1, 1, (v) => change(() => ({ midi: FIRST_SLICE + v - 1 }), `slice ${v}`)));
  else if (row.playsPitch && !page.song.pitched) box.append(field("Key", "key", "MIDI", 0, 127, n.midi, 1, (v) => change(() => ({ midi: v }), `key ${v}`)));
  box.append(field("Struck", "repeats", "times", 1, 16, n.repeats, 1, (v) => change(() => ({ repeats: v }), `struck ${v} times`)));
  if (page.song.pitched) {
    // A note comes from another pitch and leaves to another: one curve of both.
    const from = n.bend.length ? n.bend[0][1] : 0, to = n.bend.length ? n.bend[n.bend.length - 1][1] : 0;
    const bent = (/** @type {Note} */ one, /** @type {[number, number]} */ [a, b]) => /** @type {[number, number][]} */ (a || b ? [[0, a], [one.ticks * 0.3, 0], [one.ticks * 0.55, 0], [one.ticks * 0.85, b]] : []);
    box.append(
      field("Comes from", "bend-from", "st", -24, 24, from, 1, (v) => change((one) => ({ bend: bent(one, [v, one.bend.length ? one.bend[one.bend.length - 1][1] : 0]) }), v ? `comes from ${v} semitones` : "comes straight")),
      field("slides to", "slide", "st", -24, 24, to, 1, (v) => change((one) => ({ bend: bent(one, [one.bend.length ? one.bend[0][1] : 0, v]) }), v ? `slides by ${v} semitones` : "no slide")),
    );
  }
  const all = chosen.every((one) => page.locked.has(page.placeOf(row, one)));
  const lock = button(all ? "Locked" : "Lock", () => {
    for (const one of chosen) page.locked[all ? "delete" : "add"](page.placeOf(row, one));
    page.draw();
  });
  lock.setAttribute("aria-pressed", String(all));
  tip(lock, "What is locked stays when the rest is generated anew");
  box.append(lock, button("Delete", () => page.remove(row, chosen), "btn btn-link"));
}
