// What a part plays: a grid of hits for the drums, a grid of notes for the rest, with the reference's showing through in blue. The
// server keeps the song and makes what is generated; this page sends edits and draws what comes back.

import { BarRows } from "./bars.js";
import { button, node, selectBox } from "./dom.js";
import { readJson } from "./draw.js";
import { DrumGrid } from "./drumgrid.js";
import { edits } from "./edits.js";
import { choiceField, numberField } from "./fields.js";
import { player } from "./frame.js";
import { isForPage } from "./keys.js";
import { whenFree } from "./inhand.js";
import { NoteGrid } from "./notegrid.js";
import { grooveTools, makeTools } from "./notetools.js";
import { Takes } from "./takes.js";
import { variantUrl } from "./variant.js";
import { FIRST_SLICE, TICKS_PER_BAR as BAR } from "./vocabulary.js";

const GRIDS = { "16ths": 240, "32nds": 120, "8th triplets": 320, "16th triplets": 160, "8ths": 480 };
const byId = (id) => document.getElementById(id);
const host = byId("notes"), says = byId("notes-says");
const { reference, grooves, units, ...first } = readJson("drawing");
const fixed = { reference, grooves, units };

/** The page: what stands, what is in hand, and how it is changed. The grids and the tools share it. */
const page = {
  song: { ...first, ...fixed },
  row: first.part,
  shown: {},
  picked: new Set(),
  locked: new Set(),
  grid: 240,
  muted: new Set(),
  soloed: new Set(),
  section: null,

  rowOf(id = page.row) {
    return page.song.rows.find((r) => r.id === id) ?? page.song.rows[0];
  },
  /** Name of the pattern that a row shows: the chosen one, or what it plays in the section. */
  nameOf(row) {
    const names = Object.keys(row.patterns), here = row.cells[page.section]?.[0];
    return names.includes(page.shown[row.id]) ? page.shown[row.id] : names.includes(here) ? here : names[0];
  },
  patternOf(row) {
    return row.patterns[page.nameOf(row)];
  },
  sectionOf() {
    return page.song.sections.find((s) => s.id === page.section) ?? page.song.sections[0];
  },
  /** What the reference has in the section, or null. */
  there() {
    const at = page.sectionOf()?.reference;
    return at === null || at === undefined ? null : page.song.reference[at] ?? null;
  },
  key: (note) => `${note.tick}.${note.midi}`,
  chosen(row = page.rowOf()) {
    return (page.patternOf(row)?.notes ?? []).filter((n) => page.picked.has(`${row.id}/${page.key(n)}`));
  },
  pick(row, notes, add = false) {
    page.row = row.id;
    if (!add) page.picked.clear();
    for (const n of notes) page.picked.add(`${row.id}/${page.key(n)}`);
  },
  /** The row's notes anew: `make(notes)` gives them, and those that stay in hand, from what stands when its turn comes; or null. */
  write(row, make, said, change = {}) {
    const name = page.nameOf(row);
    return send(() => {
      const pattern = page.song.rows.find((r) => r.id === row.id)?.patterns[name], made = pattern && make(pattern.notes);
      if (!made) return null;
      const [notes, keep = []] = made;
      page.pick(row, keep);
      return { kind: "write_notes", part: row.id, pattern: name, bars: pattern.bars, loop_ticks: pattern.loop_ticks, notes, said, ...change };
    });
  },
  /** One note more, in the place of what `same` finds there, and in hand. */
  add(row, note, said, same) {
    return page.write(row, (notes) => [[...notes.filter((n) => !same(n)), note], [note]], said);
  },
  /** Each note in hand changed alike: `by(note, chosen)`. */
  change(by, said) {
    const row = page.rowOf();
    return page.write(row, (notes) => {
      const chosen = notes.filter((n) => page.picked.has(`${row.id}/${page.key(n)}`));
      if (!chosen.length) return null;
      const after = new Map(chosen.map((n) => [n, { ...n, ...by(n, chosen) }]));
      return [notes.map((n) => after.get(n) ?? n), [...after.values()]];
    }, said);
  },
  remove(row, gone) {
    const keys = new Set(gone.map(page.key));
    return page.write(row, (notes) => [notes.filter((n) => !keys.has(page.key(n)))], gone.length === 1 ? "a note less" : `${gone.length} notes less`);
  },
  snap: (tick) => Math.floor(tick / page.grid + 1e-6) * page.grid,
  hear(row, note) {
    takes.hearOne(row, note);
  },
};

const send = edits({ url: host.dataset.edit, says, revision: () => page.song.revision, show, refused: () => draw() });
page.send = send;
const rows = new BarRows(host, 176);
const grid = page.song.pitched ? new NoteGrid({ rows, page, host }) : new DrumGrid({ rows, page, host });
const takes = new Takes({ box: byId("take-tools"), pads: byId("pads"), says: byId("keys-says"), player, page });

const draw = whenFree(host, drawAll);

function drawAll() {
  if (!page.song.rows.some((r) => r.id === page.row)) page.row = page.song.rows[0]?.id;
  const focused = document.activeElement?.dataset ?? {}, key = ["note", "lane", "name"].find((k) => focused[k]), value = key && focused[key];
  grid.draw();
  patternTools();
  tools();
  if (key) document.querySelector(`[data-${key}="${CSS.escape(value)}"]`)?.focus({ preventScroll: true });
  rows.playhead(inside());
}

function tools() {
  handTools();
  makeTools(byId("make-tools"), page, says);
  grooveTools(byId("groove-tools"), page);
  hearTools();
  takes.draw();
}
page.tools = tools;
page.draw = draw;

/** The player's place within the pattern, in bars. */
function inside() {
  const section = page.sectionOf(), at = player.position() - (section.start - 1);
  return at < 0 || at >= section.bars ? -1 : at % grid.bars;
}

function field(title, name, unit, low, high, value, step, set) {
  return numberField({ name, title, unit, low, high, value, scale: "linear", step }, set);
}

function patternTools() {
  const box = byId("pattern-tools"), row = page.rowOf(), { song } = page;
  const section = selectBox();
  section.setAttribute("aria-label", "Section to work in");
  section.dataset.name = "section";
  for (const s of song.sections) section.add(new Option(`in ${s.name}`, s.id, false, s.id === page.section));
  section.addEventListener("change", () => { page.section = section.value; toSection(); draw(); });
  box.replaceChildren(section);
  if (!row) {
    box.append(node("span", "soft", "This part has no pattern: it plays what the transitions of the Plan ask of it."));
    return;
  }
  const pattern = page.patternOf(row), name = page.nameOf(row);
  box.append(
    node("b", "own", row.name),
    choiceField({ name: "pattern", title: "Pattern", options: Object.keys(row.patterns), value: name }, (v) => { page.shown[row.id] = v; page.picked.clear(); heard(); draw(); }),
    button("New", () => add({ bars: pattern?.bars ?? 1 })),
    button("Copy", () => add({ copy_of: name })),
    button("Delete", () => send({ kind: "delete_pattern", part: row.id, pattern: name }), "btn btn-link"),
  );
  if (pattern) {
    box.append(
      field("Length", "bars", "bars", 1, 64, pattern.bars, 1, (bars) => page.write(row, (notes) => [notes.filter((n) => n.tick < bars * BAR)], `${bars} bars long`, { bars, loop_ticks: Math.min(pattern.loop_ticks, bars * BAR) === pattern.loop_ticks ? pattern.loop_ticks : 0 })),
      field("Loop length", "loop", "16ths", 1, pattern.bars * 16, (pattern.loop_ticks || pattern.bars * BAR) / 240, 1, (v) => page.write(row, (notes) => [notes], v === pattern.bars * 16 ? "as long as its bars" : `loop length ${v} 16ths`, { loop_ticks: v === pattern.bars * 16 ? 0 : v * 240 })),
    );
  }
  box.append(choiceField({ name: "grid", title: "Grid", options: Object.keys(GRIDS), value: Object.keys(GRIDS).find((k) => GRIDS[k] === page.grid) }, (v) => { page.grid = GRIDS[v]; draw(); }));
  const [plays, on] = row.cells[page.section] ?? [];
  if (!on || plays !== name) box.append(button(`Play ${name} in ${page.sectionOf().name}`, () => send({ kind: "put_cells", how: "painted", cells: [{ part: row.id, section: page.section, on: true, pattern: name }] })));
  grid.moreTools?.(box);
}

async function add(fields) {
  const row = page.rowOf(), before = Object.keys(row.patterns);
  await send({ kind: "add_pattern", part: row.id, ...fields });
  page.shown[row.id] = Object.keys(page.rowOf(row.id).patterns).find((n) => !before.includes(n)) ?? page.shown[row.id];
  heard();
  draw();
}

/** The notes in hand: figures for all of them at once. */
function handTools() {
  const box = byId("hand-tools"), row = page.rowOf(), chosen = row ? page.chosen(row) : [];
  box.replaceChildren();
  if (!chosen.length) {
    box.textContent = page.song.pitched
      ? "Click to write a note, drag it to move it, its end to lengthen it; Shift and drag takes several in hand. Arrow keys move them."
      : "Click to set a hit; drag it up or down for its velocity, with Alt sideways for its timing; a second click takes it out.";
    return;
  }
  const [n] = chosen;
  box.append(
    node("b", "", chosen.length === 1 ? grid.nameOf(n) : `${chosen.length} in hand`),
    field("Velocity", "velocity", "%", 2, 100, Math.round(n.velocity * 100), 1, (v) => page.change(() => ({ velocity: v / 100 }), `velocity ${v} %`)),
    field("Length", "length", "16ths", 0.25, 64, n.ticks / 240, 0.25, (v) => page.change(() => ({ ticks: Math.round(v * 240) }), `${v} 16ths long`)),
    field("Nudge", "nudge", "ms", -100, 100, n.nudge_ms, 0.5, (v) => page.change(() => ({ nudge_ms: v }), `nudged by ${v} ms`)),
  );
  box.append(field("Pan", "pan", "%", -100, 100, Math.round(n.pan * 100), 5, (v) => page.change(() => ({ pan: v / 100 }), `pan ${v} %`)));
  if (!page.song.pitched) box.append(field("Pitch", "pitch", "st", -24, 24, n.semitones, 1, (v) => page.change(() => ({ semitones: v }), `pitched by ${v} semitones`)));
  if (row.slices && !page.song.pitched) box.append(field("Slice", "key", "", 1, row.slices, ((n.midi - FIRST_SLICE) % row.slices + row.slices) % row.slices + 1, 1, (v) => page.change(() => ({ midi: FIRST_SLICE + v - 1 }), `slice ${v}`)));
  else if (row.playsPitch && !page.song.pitched) box.append(field("Key", "key", "MIDI", 0, 127, n.midi, 1, (v) => page.change(() => ({ midi: v }), `key ${v}`)));
  box.append(field("Struck", "repeats", "times", 1, 16, n.repeats, 1, (v) => page.change(() => ({ repeats: v }), `struck ${v} times`)));
  if (page.song.pitched) {
    // A note comes from another pitch and leaves to another: one curve of both.
    const from = n.bend.length ? n.bend[0][1] : 0, to = n.bend.length ? n.bend[n.bend.length - 1][1] : 0;
    const bent = (one, [a, b]) => (a || b ? [[0, a], [one.ticks * 0.3, 0], [one.ticks * 0.55, 0], [one.ticks * 0.85, b]] : []);
    box.append(
      field("Comes from", "bend-from", "st", -24, 24, from, 1, (v) => page.change((one) => ({ bend: bent(one, [v, one.bend.length ? one.bend[one.bend.length - 1][1] : 0]) }), v ? `comes from ${v} semitones` : "comes straight")),
      field("slides to", "slide", "st", -24, 24, to, 1, (v) => page.change((one) => ({ bend: bent(one, [one.bend.length ? one.bend[0][1] : 0, v]) }), v ? `slides by ${v} semitones` : "no slide")),
    );
  }
  const all = chosen.every((one) => page.locked.has(`${row.id}/${page.key(one)}`));
  const lock = button(all ? "Locked" : "Lock", () => {
    for (const one of chosen) page.locked[all ? "delete" : "add"](`${row.id}/${page.key(one)}`);
    draw();
  });
  lock.setAttribute("aria-pressed", String(all));
  lock.title = "What is locked stays when the rest is generated anew";
  box.append(lock, button("Delete", () => page.remove(row, chosen), "btn btn-link"));
}

/** Which parts sound in the loop, and the click. */
function hearTools() {
  const box = byId("hear-tools"), { song } = page;
  box.replaceChildren(node("b", "", "Mute and solo"));
  const own = song.pitched ? [song.part] : song.rows.map((r) => r.id);
  const put = (change) => { change(); heard(); hearTools(); };
  const toggle = (set, id, title, said) => {
    const one = button(title, () => put(() => { if (!set.delete(id)) set.add(id); }), "btn btn-tool btn-square");
    one.setAttribute("aria-pressed", String(set.has(id)));
    one.setAttribute("aria-label", said);
    one.title = said;
    return one;
  };
  const clear = button("Clear", () => put(() => { page.muted.clear(); page.soloed.clear(); }));
  clear.disabled = !page.muted.size && !page.soloed.size;
  box.append(clear, button(song.pitched ? "Solo this part" : "Solo the drums", () => put(() => { page.soloed = new Set(own); })));
  for (const [id, name] of song.parts) {
    const one = node("span", `strip-heard${isHeard(id) ? "" : " silent"}`, name);
    one.append(toggle(page.muted, id, "M", `Mute ${name}`), toggle(page.soloed, id, "S", `Solo ${name}`));
    box.append(one);
  }
}

const isHeard = (id) => (page.soloed.size ? page.soloed.has(id) : !page.muted.has(id));

/** What the player plays: the song with the shown patterns in the section, and the heard parts alone. */
function heard() {
  const cells = page.song.rows.filter((r) => page.shown[r.id] && page.shown[r.id] !== r.cells[page.section]?.[0] && page.shown[r.id] in r.patterns)
    .map((r) => ({ part: r.id, section: page.section, on: true, pattern: page.shown[r.id] }));
  const all = page.song.parts.map(([id]) => id), audible = all.filter(isHeard);
  const body = { ...(cells.length ? { edit: { kind: "put_cells", how: "painted", cells } } : {}), ...(audible.length < all.length ? { heard: audible } : {}) };
  player.replaceRemake(Object.keys(body).length ? variantUrl(page.song.listen, body) : page.song.listen, { bars: page.song.bars, bpm: page.song.bpm, sections: page.song.sections.map((s) => [s.name, s.start, s.bars]) });
}

function toSection() {
  const section = page.sectionOf();
  player.seek(section.start - 1);
  if (!player.loop || player.loop.start !== section.start - 1) {
    if (player.loop) player.toggleLoop();
    player.toggleLoop();
  }
  heard();
}

function show(state) {
  page.song = { ...state, ...fixed };
  byId("remake-title").textContent = page.song.title;
  heard();
  draw();
  buttons();
}

function buttons() {
  for (const [id, sentence] of [["undo", page.song.undo], ["redo", page.song.redo]]) {
    byId(id).disabled = !sentence;
    byId(id).title = sentence ?? "";
  }
}

byId("which-part").replaceChildren(...page.song.parts.map(([id, name]) => new Option(name, id, false, id === page.song.part)));
byId("which-part").addEventListener("change", (event) => location.assign(`${host.dataset.home}${event.target.value}/notes/`));
byId("zoom-in").addEventListener("click", () => rows.zoom(1.6));
byId("zoom-out").addEventListener("click", () => rows.zoom(1 / 1.6));
byId("zoom-all").addEventListener("click", () => rows.fit());
document.addEventListener("keydown", (event) => {
  if (!isForPage(event)) return;
  const act = { "+": () => rows.zoom(1.6), "=": () => rows.zoom(1.6), "-": () => rows.zoom(1 / 1.6), _: () => rows.fit(), Delete: () => { if (page.chosen().length) page.remove(page.rowOf(), page.chosen()); } }[event.key];
  if (!act) return;
  event.preventDefault();
  act();
});

/** MIDI files into the pattern in hand. */
page.bring = (file) => {
  const row = page.rowOf(), body = new FormData();
  body.append("file", file);
  body.append("revision", page.song.revision);
  send.post(`${host.dataset.home}${row.id}/patterns/${encodeURIComponent(page.nameOf(row))}/bring/`, body);
};

// The section where the part is at home: where it plays and the player stands, or else the first drop that it plays in.
{
  const row = page.rowOf(), plays = page.song.sections.filter((s) => row?.cells[s.id]?.[1]);
  const here = page.song.sections.find((s) => player.position() >= s.start - 1 && player.position() < s.start - 1 + s.bars);
  page.section = (plays.find((s) => s.id === here?.id) ?? plays.find((s) => s.name.startsWith("drop")) ?? plays[0] ?? here ?? page.song.sections[0]).id;
  if (here?.id !== page.section) player.seek(page.sectionOf().start - 1);
}
player.watch(host, () => rows.playhead(inside()));
draw();
buttons();
