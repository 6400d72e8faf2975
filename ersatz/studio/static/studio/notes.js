// @ts-check
// What a part plays: a grid of hits for the drums, a grid of notes for the rest, with the reference's showing through in blue. The
// server keeps the song and makes what is generated; this page sends edits and draws what comes back.

import { BarRows } from "./bars.js";
import { button, byId, dataOf, node, selectBox, selectById } from "./dom.js";
import { readJson } from "./draw.js";
import { DrumGrid } from "./drumgrid.js";
import { edits, showSteps } from "./edits.js";
import { choiceField, plainField as field } from "./fields.js";
import { keptFocus } from "./focus.js";
import { pagePlayer } from "./frame.js";
import { isForPage } from "./keys.js";
import { whenFree } from "./inhand.js";
import { NoteGrid } from "./notegrid.js";
import { handTools } from "./notehand.js";
import { NotesPage } from "./notespage.js";
import { grooveTools, makeTools } from "./notetools.js";
import { Takes } from "./takes.js";
import { tip } from "./tips.js";
import { variantUrl } from "./variant.js";
import { LIMITS, TICKS_PER_BAR as BAR } from "./vocabulary.js";

/** Ticks from line to line of the grid.
 *  @type {[number, string][]} */
const GRIDS = [[240, "16ths"], [120, "32nds"], [320, "8th triplets"], [160, "16th triplets"], [480, "8ths"]];
const host = byId("notes"), says = byId("notes-says"), home = dataOf(host, "home"), player = pagePlayer();
const { reference, grooves, units, ...first } = /** @type {import("./notespage.js").NotesSong} */ (readJson("drawing"));
const fixed = { reference, grooves, units };

const send = edits({ url: dataOf(host, "edit"), says, revision: () => page.song.revision, show, refused: () => draw() });
const draw = whenFree(host, drawAll);
const page = new NotesPage({ ...first, ...fixed }, {
  send, draw, tools, hear: (row, note) => takes.hearOne(row, note),
  bring: (file) => {
    const row = page.rowOf(), body = new FormData();
    if (!row) return;
    body.append("file", file);
    body.append("revision", String(page.song.revision));
    send.post(`${home}${row.id}/patterns/${encodeURIComponent(page.nameOf(row))}/bring/`, body);
  },
});
const rows = new BarRows(host, 176);
const grid = page.song.pitched ? new NoteGrid({ rows, page, host }) : new DrumGrid({ rows, page, host });
const takes = new Takes({ box: byId("take-tools"), pads: byId("pads"), says: byId("keys-says"), player, page });

function drawAll() {
  if (!page.song.rows.some((r) => r.id === page.row)) page.row = page.song.rows[0]?.id ?? "";
  const focused = keptFocus();
  grid.draw();
  patternTools();
  tools();
  focused();
  rows.playhead(inside());
}

function tools() {
  handTools(byId("hand-tools"), page, (note) => grid.nameOf(note));
  makeTools(byId("make-tools"), page);
  grooveTools(byId("groove-tools"), page);
  hearTools();
  takes.draw();
}

/** The player's place within the pattern, in bars. */
function inside() {
  const section = page.sectionOf(), at = player.position() - (section.start - 1);
  return at < 0 || at >= section.bars ? -1 : at % grid.bars;
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
      field("Length", "bars", "bars", ...LIMITS.patternBars, pattern.bars, 1, (bars) => page.write(row, (notes) => [notes.filter((n) => n.tick < bars * BAR)], `${bars} bars long`, { bars, loop_ticks: Math.min(pattern.loop_ticks, bars * BAR) === pattern.loop_ticks ? pattern.loop_ticks : 0 })),
      field("Loop length", "loop", "16ths", 1, pattern.bars * 16, (pattern.loop_ticks || pattern.bars * BAR) / 240, 1, (v) => page.write(row, (notes) => [notes], v === pattern.bars * 16 ? "as long as its bars" : `loop length ${v} 16ths`, { loop_ticks: v === pattern.bars * 16 ? 0 : v * 240 })),
    );
  }
  box.append(choiceField({ name: "grid", title: "Grid", options: GRIDS.map(([ticks, title]) => [String(ticks), title]), value: String(page.grid) }, (ticks) => { page.grid = Number(ticks); draw(); }));
  const [plays, on] = row.cells[page.section] ?? ["", false];
  if (!on || plays !== name) box.append(button(`Play ${name} in ${page.sectionOf().name}`, () => send({ kind: "put_cells", how: "painted", cells: [{ part: row.id, section: page.section, on: true, pattern: name }] })));
  if (grid instanceof NoteGrid) grid.moreTools(box);
}

/** A pattern more for the row in hand.
 *  @param {{ bars?: number, copy_of?: string }} fields */
async function add(fields) {
  const row = page.rowOf();
  if (!row) return;
  const before = Object.keys(row.patterns);
  await send({ kind: "add_pattern", part: row.id, ...fields });
  const made = Object.keys(page.rowOf(row.id)?.patterns ?? {}).find((n) => !before.includes(n));
  if (made) page.shown[row.id] = made;
  heard();
  draw();
}

/** Which parts sound in the loop, and the click. */
function hearTools() {
  const box = byId("hear-tools"), { song } = page, focused = keptFocus();
  box.replaceChildren(node("b", "", "Mute and solo"));
  const own = song.pitched ? [song.part] : song.rows.map((r) => r.id);
  const put = (/** @type {() => void} */ change) => { change(); heard(); hearTools(); };
  const toggle = (/** @type {Set<string>} */ set, /** @type {string} */ id, /** @type {string} */ title, /** @type {string} */ said) => {
    const one = button(title, () => put(() => { if (!set.delete(id)) set.add(id); }), "btn btn-tool btn-square");
    one.setAttribute("aria-pressed", String(set.has(id)));
    one.setAttribute("aria-label", said);
    tip(one, said);
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
  focused();
}

const isHeard = (/** @type {string} */ id) => (page.soloed.size ? page.soloed.has(id) : !page.muted.has(id));

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

/** @param {import("./states").NotesState} state */
function show(state) {
  page.song = { ...state, ...fixed };
  byId("remake-title").textContent = page.song.title;
  heard();
  draw();
  showSteps(page.song);
}

selectById("which-part").replaceChildren(...page.song.parts.map(([id, name]) => new Option(name, id, false, id === page.song.part)));
const which = selectById("which-part");
which.addEventListener("change", () => location.assign(`${home}${which.value}/notes/`));
byId("zoom-in").addEventListener("click", () => rows.zoom(1.6));
byId("zoom-out").addEventListener("click", () => rows.zoom(1 / 1.6));
byId("zoom-all").addEventListener("click", () => rows.fit());
document.addEventListener("keydown", (event) => {
  if (!isForPage(event)) return;
  /** @type {Record<string, () => void>} */
  const acts = { "+": () => rows.zoom(1.6), "=": () => rows.zoom(1.6), "-": () => rows.zoom(1 / 1.6), _: () => rows.fit(), Delete: () => {
    const row = page.rowOf();
    if (row && page.chosen(row).length) page.remove(row, page.chosen(row));
  } }, act = acts[event.key];
  if (!act) return;
  event.preventDefault();
  act();
});

// The section where the part is at home: where it plays and the player stands, or else the first drop that it plays in.
{
  const row = page.rowOf(), plays = page.song.sections.filter((s) => row?.cells[s.id]?.[1]);
  const here = page.song.sections.find((s) => player.position() >= s.start - 1 && player.position() < s.start - 1 + s.bars);
  page.section = (plays.find((s) => s.id === here?.id) ?? plays.find((s) => s.name.startsWith("drop")) ?? plays[0] ?? here ?? page.song.sections[0]).id;
  if (here?.id !== page.section) player.seek(page.sectionOf().start - 1);
}
player.watch(host, () => rows.playhead(inside()));
draw();
showSteps(page.song);
