// @ts-check
// Making and changing notes by the handful: traced, generated, transformed, answered, imported; and how a row grooves.

import { button, dataOf, byId, inputBox, menu, node, row } from "./dom.js";
import { choiceField, plainField as field } from "./fields.js";
import { tip } from "./tips.js";
import { TICKS_PER_BAR as BAR } from "./vocabulary.js";

/** @typedef {import("./notespage.js").NotesPage} NotesPage */
/** @typedef {import("./notespage.js").NoteRow} NoteRow */
/** @typedef {import("./states").Pattern} Pattern */

const TRACED = ["kick", "clap", "hats"];
const ORDERS = ["up", "down", "up and down", "as drawn", "by chance"];
const DEGREES = ["1", "2", "3", "4", "5", "6", "7"];
/** Ways to change notes, with the amount each begins with, null for none.
 *  @type {Record<string, number | null>} */
const WAYS = { transpose: 12, "transpose in scale": 1, "snap to scale": null, invert: null, reverse: null, shift: 1, stretch: 2, legato: null, strum: 15, "octave layer": 1, louder: 0.1, length: 0.5 };
const held = { way: "transpose", amount: 12, seed: 1, density: 0, order: "up", octaves: 1, step: 1, voices: 3 };

/** Ways to generate a pattern anew, against what stands there. */
const MOODS = {
  busier: "Anew, with more notes than now", sparser: "Anew, with fewer notes than now",
  simpler: "Anew, the rhythm of two bars over and over, without ghosts", stranger: "Anew, off the beat moved aside, to other steps and octaves",
};

/** A menu of values with their titles.
 *  @param {string} label
 *  @param {string} name
 *  @param {[value: string, title: string][]} options
 *  @param {(value: string) => void} act */
const choice = (label, name, options, act) => menu(label, options.map(([value, title]) => row(title, () => act(value))), { name });

/** What makes notes and changes many at once.
 *  @param {HTMLElement} box
 *  @param {NotesPage} page */
export function makeTools(box, page) {
  const part = page.rowOf(), pattern = part && page.patternOf(part);
  box.replaceChildren();
  if (!pattern) return;
  const name = page.nameOf(part), there = page.sectionOf()?.reference, places = () => page.chosen(part).map((n) => pattern.notes.indexOf(n));
  box.append(node("b", "", "Generate"));
  if (there !== null && there !== undefined && (TRACED.includes(part.role) || part.role === "bass")) {
    const trace = button("Trace the reference", () => page.send.ask({ kind: "trace", part: part.id, pattern: name, section: there }));
    tip(trace, part.role === "bass" ? "Its rhythm, on the song’s own tonic" : "Its hits, as loud and as late");
    box.append(trace);
  }
  const locked = () => pattern.notes.flatMap((n, i) => (page.locked.has(page.placeOf(part, n)) ? [i] : []));
  const generate = (mood = "") => page.send.ask({ kind: "generate", part: part.id, pattern: name, seed: held.seed, locked: locked(), per_bar: held.density, section: there ?? 0, mood });
  const density = field("Density", "density", "a bar", 0, 32, held.density, 1, (v) => { held.density = v; });
  tip(density, "Notes or hits a bar; 0: as many as the style’s figure has");
  const moods = node("span", "moods");
  moods.setAttribute("role", "group");
  moods.setAttribute("aria-label", "Anew, against what stands here");
  for (const [mood, said] of Object.entries(MOODS)) {
    const again = button(mood[0].toUpperCase() + mood.slice(1), () => { held.seed += 1; generate(mood); });
    tip(again, said);
    moods.append(again);
  }
  box.append(
    button("Generate", () => generate()),
    field("Seed", "seed", "", 1, 999, held.seed, 1, (v) => { held.seed = v; generate(); }),
    button("New seed", () => { held.seed += 1; generate(); }),
    density,
    moods,
  );
  if (TRACED.includes(part.role) && there !== null && there !== undefined) box.append(button("as dense as the reference", () => { held.density = -1; generate().then(() => { held.density = 0; }); }, "btn btn-link"));

  const ways = page.song.pitched ? Object.keys(WAYS) : ["shift", "reverse", "stretch", "louder", "length"];
  if (!ways.includes(held.way)) Object.assign(held, { way: ways[0], amount: WAYS[ways[0]] ?? 0 });
  const amount = field("by", "amount", page.song.units[held.way] ?? "", -48, 48, held.amount, 0, (v) => { held.amount = v; });
  amount.hidden = WAYS[held.way] === null;
  box.append(
    choiceField({ name: "way", title: "Transform", options: ways, value: held.way }, (v) => { held.way = v; held.amount = WAYS[v] ?? 0; page.tools(); }),
    amount,
    button(page.chosen(part).length ? "Apply to selected" : "Apply to all", () => page.send({ kind: "transform_notes", part: part.id, pattern: name, how: held.way, amount: held.amount, places: places() })),
  );
  if (page.song.pitched) pitchedTools(box, page, part, pattern, name, places);
  fileTools(box, page, part, name);
}

/** @param {HTMLElement} box
 *  @param {NotesPage} page
 *  @param {NoteRow} part
 *  @param {Pattern} pattern
 *  @param {string} name
 *  @param {() => number[]} places */
function pitchedTools(box, page, part, pattern, name, places) {
  const transform = (/** @type {string} */ how, /** @type {object} */ more) => page.send({ kind: "transform_notes", part: part.id, pattern: name, how, places: places(), ...more });
  box.append(
    choice("Arpeggio", "arpeggio", ORDERS.map((o) => [o, o]), (order) => { held.order = order; transform("arpeggio", { order, octaves: held.octaves, amount: held.step, seed: held.seed }); }),
    field("octaves", "octaves", "", 1, 4, held.octaves, 1, (v) => { held.octaves = v; }),
    field("every", "arp-step", "16ths", 1, 8, held.step, 1, (v) => { held.step = v; }),
  );
  if (part.role === "bass") box.append(button("Rolling bass", () => transform("rolling bass", { amount: 0 })));
  box.append(
    choice("Chord on degree", "chord", DEGREES.map((d) => [d, d]), (degree) => chord(page, part, pattern, name, Number(degree))),
    field("voices", "voices", "", 3, 5, held.voices, 1, (v) => { held.voices = v; }),
  );
  const others = page.song.parts.filter(([id, , , has, pitched]) => id !== part.id && has && pitched);
  if (pattern.bars >= 4 && others.length) box.append(choice("Call and response with", "answer", others.map(([id, title]) => [id, title]), (answers) => page.send({ kind: "call_and_answer", part: part.id, pattern: name, answers, answer_pattern: "A", bars: pattern.bars % 8 ? 1 : 2 })));
}

/** A chord of the scale where the notes in hand begin, or in the first empty bar.
 *  @param {NotesPage} page
 *  @param {NoteRow} part
 *  @param {Pattern} pattern
 *  @param {string} name
 *  @param {number} degree */
function chord(page, part, pattern, name, degree) {
  const chosen = page.chosen(part), taken = new Set(pattern.notes.map((n) => Math.floor(n.tick / BAR)));
  const free = Array.from({ length: pattern.bars }, (_, i) => i).find((i) => !taken.has(i));
  const tick = chosen.length ? Math.min(...chosen.map((n) => n.tick)) : (free ?? 0) * BAR;
  return page.send({ kind: "write_chord", part: part.id, pattern: name, degree, voices: held.voices, tick });
}

/** @param {HTMLElement} box
 *  @param {NotesPage} page
 *  @param {NoteRow} part
 *  @param {string} name */
function fileTools(box, page, part, name) {
  const out = node("a", "btn btn-link", "Export MIDI");
  out.href = `${dataOf(byId("notes"), "home")}${part.id}/patterns/${encodeURIComponent(name)}.mid`;
  const label = node("label", "btn btn-tool midi-in", "Import MIDI"), input = inputBox();
  Object.assign(input, { type: "file", accept: ".mid,.midi,audio/midi", className: "unseen", id: "pattern-file" });
  input.addEventListener("change", () => { if (input.files?.[0]) page.bring(input.files[0]); });
  label.append(input);
  box.append(out, label);
}

/** What of a groove isn't its own but the part's: it stays when another groove is taken. */
const CHANCE = /** @type {const} */ (["humanise_ms", "humanise_velocity", "random_velocity", "random_pan", "random_semitones", "seed"]);

/** Swing, timing and chance of the row in hand.
 *  @param {HTMLElement} box
 *  @param {NotesPage} page */
export function grooveTools(box, page) {
  const part = page.rowOf();
  box.replaceChildren();
  if (!part) return;
  const { groove } = part, put = (/** @type {Partial<import("./states").Groove>} */ change) => page.send(() => ({ kind: "set_groove", part: part.id, groove: { ...page.rowOf(part.id)?.groove, ...change } }));
  const there = page.sectionOf()?.reference, known = page.there()?.hits ?? {};
  box.append(node("b", "", "Groove"), node("span", "own", groove.name || "as the song"));
  const theirs = Object.keys(known).filter((role) => known[role].length).map((role) => /** @type {[string, string]} */ ([`ref:${role}`, `the reference’s ${role}`]));
  box.append(choice("Load groove", "groove", [...theirs, ...page.song.grooves.map((g) => /** @type {[string, string]} */ ([g.name, g.name]))], (value) => {
    if (value.startsWith("ref:")) page.send.ask({ kind: "load_groove", part: part.id, section: there, role: value.slice(4) });
    else put({ ...page.song.grooves.find((g) => g.name === value), amount: groove.amount, ...Object.fromEntries(CHANCE.map((name) => [name, groove[name]])) });
  }));
  box.append(
    field("Amount", "groove-amount", "%", 0, 200, Math.round(groove.amount * 100), 5, (v) => put({ amount: v / 100 })),
    field("Swing", "groove-swing", "%", 50, 75, groove.swing_percent || page.song.swing, 0.5, (v) => put({ swing_percent: v, name: groove.name || "own swing" })),
    field("Humanise timing", "humanise-ms", "ms", 0, 40, groove.humanise_ms, 0.5, (v) => put({ humanise_ms: v })),
    field("velocity", "humanise-velocity", "±%", 0, 50, Math.round(groove.humanise_velocity * 100), 1, (v) => put({ humanise_velocity: v / 100 })),
    field("Random velocity", "random-velocity", "±%", 0, 50, Math.round(groove.random_velocity * 100), 1, (v) => put({ random_velocity: v / 100 })),
    field("pan", "random-pan", "±%", 0, 100, Math.round(groove.random_pan * 100), 5, (v) => put({ random_pan: v / 100 })),
    field("pitch", "random-semitones", "±st", 0, 12, groove.random_semitones, 0.05, (v) => put({ random_semitones: v })),
    button("New seed", () => put({ seed: groove.seed + 1 })),
  );
  if (groove.name || groove.timing_ms.length) box.append(button("As the song", () => put({ name: "", timing_ms: [], swing_percent: 0, amount: 1 }), "btn btn-link"));
  if (page.song.pitched) return;
  const choke = inputBox();
  Object.assign(choke, { type: "text", maxLength: 40, value: part.choke, placeholder: "none" });
  choke.dataset.name = "choke";
  choke.setAttribute("aria-label", `Choke group of ${part.name}`);
  choke.addEventListener("change", () => page.send({ kind: "set_choke", part: part.id, group: choke.value }));
  const label = node("label", "field choke", "Choke group");
  label.append(choke);
  box.append(label);
}
