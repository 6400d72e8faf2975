// Making and changing notes by the handful: traced, generated, transformed, answered, imported; and how a row grooves.

import { button, inputBox, menu, node } from "./dom.js";
import { choiceField, numberField } from "./fields.js";
import { TICKS_PER_BAR as BAR } from "./vocabulary.js";

const TRACED = ["kick", "clap", "hats"];
const ORDERS = ["up", "down", "up and down", "as drawn", "by chance"];
const DEGREES = ["1", "2", "3", "4", "5", "6", "7"];
/** Ways to change notes, with the amount each begins with. */
const WAYS = { transpose: 12, "transpose in scale": 1, "snap to scale": null, invert: null, reverse: null, shift: 1, stretch: 2, legato: null, strum: 15, "octave layer": 1, louder: 0.1, length: 0.5 };
const held = { way: "transpose", amount: 12, seed: 1, density: 0, order: "up", octaves: 1, step: 1, voices: 3 };

const field = (title, name, unit, low, high, value, step, set) => numberField({ name, title, unit, low, high, value, scale: "linear", step }, set);

const choice = (label, name, options, act) => menu(label, options.map(([value, title]) => [title, () => act(value)]), { name });

export function makeTools(box, page, says) {
  const row = page.rowOf(), pattern = row && page.patternOf(row);
  box.replaceChildren();
  if (!pattern) return;
  const name = page.nameOf(row), there = page.sectionOf()?.reference, places = () => page.chosen(row).map((n) => pattern.notes.indexOf(n));
  box.append(node("b", "", "Generate"));
  if (there !== null && there !== undefined && (TRACED.includes(row.role) || row.role === "bass")) {
    const trace = button("Trace the reference", () => page.send.ask({ kind: "trace", part: row.id, pattern: name, section: there }));
    trace.title = row.role === "bass" ? "Its rhythm, on the song’s own tonic" : "Its hits, as loud and as late";
    box.append(trace);
  }
  const locked = () => pattern.notes.flatMap((n, i) => (page.locked.has(`${row.id}/${page.key(n)}`) ? [i] : []));
  const generate = () => page.send.ask({ kind: "generate", part: row.id, pattern: name, seed: held.seed, locked: locked(), per_bar: held.density, section: there ?? 0 });
  box.append(
    button("Generate", generate),
    field("Seed", "seed", "", 1, 999, held.seed, 1, (v) => { held.seed = v; generate(); }),
    button("New seed", () => { held.seed += 1; generate(); }),
    field("Density", "density", "a bar", 0, 32, held.density, 1, (v) => { held.density = v; }),
  );
  box.querySelector("[data-name=density]").title = "Notes or hits a bar; 0: as many as the style’s figure has";
  if (TRACED.includes(row.role) && there !== null && there !== undefined) box.append(button("as dense as the reference", () => { held.density = -1; generate().then(() => { held.density = 0; }); }, "btn btn-link"));

  const ways = page.song.pitched ? Object.keys(WAYS) : ["shift", "reverse", "stretch", "louder", "length"];
  if (!ways.includes(held.way)) Object.assign(held, { way: ways[0], amount: WAYS[ways[0]] });
  const amount = field("by", "amount", page.song.units[held.way] ?? "", -48, 48, held.amount, 0, (v) => { held.amount = v; });
  amount.hidden = WAYS[held.way] === null;
  box.append(
    choiceField({ name: "way", title: "Transform", options: ways, value: held.way }, (v) => { held.way = v; held.amount = WAYS[v] ?? 0; page.tools(); }),
    amount,
    button(page.chosen(row).length ? "Apply to selected" : "Apply to all", () => page.send({ kind: "transform_notes", part: row.id, pattern: name, how: held.way, amount: held.amount, places: places() })),
  );
  if (page.song.pitched) pitchedTools(box, page, row, pattern, name, places);
  fileTools(box, page, row, name, says);
}

function pitchedTools(box, page, row, pattern, name, places) {
  const transform = (how, more) => page.send({ kind: "transform_notes", part: row.id, pattern: name, how, places: places(), ...more });
  box.append(
    choice("Arpeggio", "arpeggio", ORDERS.map((o) => [o, o]), (order) => { held.order = order; transform("arpeggio", { order, octaves: held.octaves, amount: held.step, seed: held.seed }); }),
    field("octaves", "octaves", "", 1, 4, held.octaves, 1, (v) => { held.octaves = v; }),
    field("every", "arp-step", "16ths", 1, 8, held.step, 1, (v) => { held.step = v; }),
  );
  if (row.role === "bass") box.append(button("Rolling bass", () => transform("rolling bass", { amount: 0 })));
  box.append(
    choice("Chord on degree", "chord", DEGREES.map((d) => [d, d]), (degree) => chord(page, row, pattern, name, Number(degree))),
    field("voices", "voices", "", 3, 5, held.voices, 1, (v) => { held.voices = v; }),
  );
  const others = page.song.parts.filter(([id, , , has, pitched]) => id !== row.id && has && pitched);
  if (pattern.bars >= 4 && others.length) box.append(choice("Call and response with", "answer", others.map(([id, title]) => [id, title]), (answers) => page.send({ kind: "call_and_answer", part: row.id, pattern: name, answers, answer_pattern: "A", bars: pattern.bars % 8 ? 1 : 2 })));
}

/** A chord of the scale where the notes in hand begin, or in the first empty bar. */
function chord(page, row, pattern, name, degree) {
  const chosen = page.chosen(row), taken = new Set(pattern.notes.map((n) => Math.floor(n.tick / BAR)));
  const free = Array.from({ length: pattern.bars }, (_, i) => i).find((i) => !taken.has(i));
  const tick = chosen.length ? Math.min(...chosen.map((n) => n.tick)) : (free ?? 0) * BAR;
  return page.send({ kind: "write_chord", part: row.id, pattern: name, degree, voices: held.voices, tick });
}

function fileTools(box, page, row, name) {
  const out = node("a", "btn btn-link", "Export MIDI");
  out.href = `${document.getElementById("notes").dataset.home}${row.id}/patterns/${encodeURIComponent(name)}.mid`;
  const label = node("label", "btn btn-tool midi-in", "Import MIDI"), input = inputBox();
  Object.assign(input, { type: "file", accept: ".mid,.midi,audio/midi", className: "unseen", id: "pattern-file" });
  input.addEventListener("change", () => { if (input.files[0]) page.bring(input.files[0]); });
  label.append(input);
  box.append(out, label);
}

/** Swing, timing and chance of the row in hand. */
/** What of a groove isn't its own but the part's: it stays when another groove is taken. */
const CHANCE = ["humanise_ms", "humanise_velocity", "random_velocity", "random_pan", "random_semitones", "seed"];

export function grooveTools(box, page) {
  const row = page.rowOf();
  box.replaceChildren();
  if (!row) return;
  const groove = row.groove, put = (change) => page.send(() => ({ kind: "set_groove", part: row.id, groove: { ...page.rowOf(row.id).groove, ...change } }));
  const there = page.sectionOf()?.reference, known = there === null || there === undefined ? {} : page.song.reference[there]?.hits ?? {};
  box.append(node("b", "", "Groove"), node("span", "own", groove.name || "as the song"));
  box.append(choice("Load groove", "groove", [...Object.keys(known).filter((role) => known[role].length).map((role) => [`ref:${role}`, `the reference’s ${role}`]), ...page.song.grooves.map((g) => [g.name, g.name])], (value) => {
    if (value.startsWith("ref:")) page.send.ask({ kind: "load_groove", part: row.id, section: there, role: value.slice(4) });
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
  Object.assign(choke, { type: "text", maxLength: 40, value: row.choke, placeholder: "none" });
  choke.dataset.name = "choke";
  choke.setAttribute("aria-label", `Choke group of ${row.name}`);
  choke.addEventListener("change", () => page.send({ kind: "set_choke", part: row.id, group: choke.value }));
  const label = node("label", "field choke", "Choke group");
  label.append(choke);
  box.append(label);
}
