// @ts-check
// The plan: both section rows on one bar axis, parts by section, transitions, one automated value. The server keeps the song; this page
// sends edits with the revision they were made on and draws what comes back.

import { asked, remember } from "./address.js";
import { Automation } from "./automation.js";
import { BarRows, place } from "./bars.js";
import { Cells, hasCells } from "./cells.js";
import { button, byId, dataOf, inputById, node } from "./dom.js";
import { readJson } from "./draw.js";
import { edits, showSteps } from "./edits.js";
import { keptFocus } from "./focus.js";
import { pagePlayer } from "./frame.js";
import { isForPage } from "./keys.js";
import { guideTools } from "./guide.js";
import { History } from "./history.js";
import { whenFree } from "./inhand.js";
import { OtherDrafts } from "./otherdrafts.js";
import { partHead, presenceBoxes } from "./partrows.js";
import { markStill, ownRow, referenceRows } from "./sectionrows.js";
import { sectionTools } from "./sections.js";
import { Sketch } from "./sketch.js";
import { SoundPicker } from "./soundpicker.js";
import { songTools } from "./songtools.js";
import { standstillTools } from "./standstills.js";
import { editTitle } from "./title.js";
import { Transitions } from "./transitions.js";
import { ROLE_NAMES } from "./vocabulary.js";

const HEAD = 206;
const host = byId("plan"), says = byId("plan-says"), home = dataOf(host, "home"), player = pagePlayer();
const { reference, sounds, ...first } = /** @type {import("./states").PlanState & import("./states").PlanFixed} */ (readJson("drawing"));
const fixed = { reference, sounds, id: Number(host.dataset.remake) };
/** @type {import("./sections.js").PlanSong} */
let song = { ...first, ...fixed };
/** The section of the reference that is chosen.
 *  @type {number | null} */
let clicked = null;
/** @type {import("./sectionrows.js").Standstill[]} */
let still = [];

const rows = new BarRows(host, HEAD);
const send = edits({ url: dataOf(host, "edit"), says, revision: () => song.revision, show, refused: () => draw() });
const ask = (/** @type {object} */ wanted) => send.ask(wanted);
const cells = new Cells({ host, box: byId("cell-tools"), song: () => song, send, ask, says });
const transitions = new Transitions({ rows, box: byId("transition-tools"), song: () => song, send });
const automation = new Automation({ rows, box: byId("curve-tools"), song: () => song, send, home });
automation.onOpen = () => draw();
const history = new History({ list: byId("history"), kept: byId("milestones"), notice: says, url: home, state: () => song, send, player });
const another = document.getElementById("another");
// The page says how far the matching of what was taken is.
const others = another && new OtherDrafts({ box: another, player, song: () => song, taken: () => location.reload() });
const sketch = new Sketch({ picture: /** @type {HTMLCanvasElement} */ (byId("plan-notes")), host, rows, left: HEAD, song: () => song });

/** The song's own section under the playhead, also while the reference is heard. */
const placed = () => song.sections.findIndex((s) => player.position() >= s.start - 1 && player.position() < s.start - 1 + s.bars);

const draw = whenFree(host, drawAll);

function drawAll() {
  const focused = keptFocus();
  rows.clear(Math.max(song.bars, reference?.bars ?? 0));
  cells.clear();
  rows.ruler((bar) => player.seek(bar), addPart());
  if (reference) referenceRows(rows, song, reference, { clicked, pick: (i) => { clicked = clicked === i ? null : i; draw(); } });
  ownRow(rows, song, { still, seek: (bar) => player.seek(bar), send });
  song.parts.forEach((part, row) => {
    const lane = rows.row(partHead(part, home, send), 29, "partrow"), presence = reference?.presence[part.role];
    if (hasCells(part)) {
      if (presence) presenceBoxes(lane, presence);
      song.sections.forEach((section, column) => cells.draw(lane, part, section, row, column));
    } else for (const [from, bars] of transitions.playedBy(part.id)) lane.append(place(node("i", "carried"), from, bars));
  });
  transitions.draw(node("b", "", "Transitions"));
  automation.draw(automationHead());
  drawFrame();
  rows.playhead(player.position());
  cells.mark();
  cells.tools();
  tools();
  sketch.measure();
  moved();
  focused();
}

function drawFrame() {
  const here = song.sections[placed()];
  if (!here) return;
  const frame = place(node("div", "underhead"), here.start - 1, here.bars);
  let layer = host.querySelector(".layer");
  if (!layer) {
    layer = node("div", "layer");
    rows.sheet.append(layer);
  }
  layer.replaceChildren(frame);
}

const picker = new SoundPicker({
  sounds,
  add: (role, sound) => send({ kind: "add_part", role, sound, name: ROLE_NAMES[role], bars: 1 }),
  play: (url) => player.playOnce(url).catch(() => { says.textContent = "The sound could not be loaded. Is Ersatz still running?"; }),
});

function addPart() {
  const add = button("Add a part …", () => picker.open());
  add.dataset.tool = "add-part";
  return add;
}

function automationHead() {
  const head = document.createDocumentFragment();
  head.append(node("b", "", automation.ownerName), node("small", "soft", automation.targets.find(([t]) => t === automation.target)?.[1] ?? ""));
  return head;
}

function tools() {
  const focused = keptFocus();
  const here = placed(), section = song.sections[here];
  sectionTools(byId("section-tools"), { song, here, bar: player.position(), there: clicked, send, ask });
  transitions.tools(section);
  automation.tools(section);
  songTools(byId("song"), { song, send, redraw: tools });
  guideTools(byId("guide-tools"), { player, song, section, redraw: tools });
  focused();
}

/** @param {import("./states").PlanState} state */
function show(state) {
  song = { ...state, ...fixed };
  history.hearing = null;
  others?.reset();
  byId("remake-title").textContent = song.title;
  player.replaceRemake(song.listen, { bars: song.bars, bpm: song.bpm, sections: song.sections.map((s) => [s.name, s.start, s.bars]) });
  draw();
  showSteps(song, true);
  history.draw();
  lookForStandstills();
}

/** @type {ReturnType<typeof setTimeout> | undefined} */
let looked;
/** Where nothing new comes, a moment after the last edit. */
function lookForStandstills() {
  clearTimeout(looked);
  looked = setTimeout(async () => {
    const { sha } = song;
    const answer = await fetch(`${home}standing-still/`).catch(() => null);
    if (!answer?.ok || sha !== song.sha) return;
    still = (await answer.json()).found;
    standstillTools(byId("still"), { still, song, player, ask });
    for (const block of /** @type {NodeListOf<HTMLElement>} */ (host.querySelectorAll("[data-own]"))) markStill(block, song, still);
  }, 900);
}

/** The draft is matched behind the page: what that makes takes the place of what plays. */
document.getElementById("matching")?.addEventListener("job-ended", async (event) => {
  const job = /** @type {CustomEvent<import("./http.js").Job>} */ (event).detail;
  byId("matching").remove();
  if (job.state !== "done") says.textContent = job.message;
  const answer = await fetch(`${home}now/`).catch(() => null), now = answer?.ok ? await answer.json() : null;
  if (now && now.revision !== song.revision) send.returnTo(now.revision);
});

byId("rename").addEventListener("click", () => {
  editTitle(byId("remake-title"), song.title, (title) => send({ kind: "rename", title }));
});
byId("zoom-in").addEventListener("click", () => rows.zoom(1.6));
byId("zoom-out").addEventListener("click", () => rows.zoom(1 / 1.6));
byId("zoom-all").addEventListener("click", () => rows.fit());
byId("zoom-section").addEventListener("click", () => {
  const here = song.sections[placed()];
  if (here) rows.show(here.start - 1, here.bars);
});
document.addEventListener("keydown", (event) => {
  if (!isForPage(event)) return;
  /** @type {Record<string, () => void>} */
  const acts = { "+": () => rows.zoom(1.6), "=": () => rows.zoom(1.6), "-": () => rows.zoom(1 / 1.6), "_": () => rows.fit(), u: () => document.getElementById("guide-on")?.click() };
  const act = acts[event.key];
  if (act) {
    event.preventDefault();
    act();
  }
});
const midi = inputById("midi-file");
midi.addEventListener("change", () => {
  const [file] = midi.files ?? [];
  midi.value = "";
  if (!file) return;
  const body = new FormData();
  body.append("file", file);
  body.append("revision", String(song.revision));
  send.post(`${home}midi/`, body);
});

/** After every zoom and scroll. */
function moved() {
  const [from, to] = rows.view;
  cells.reveal(from, to);
  sketch.draw();
}
rows.watch(() => {
  moved();
  const [from, to] = rows.view, isWhole = to - from >= rows.bars - 0.01;
  remember({ from: isWhole ? null : Math.round(from + 1), bars: isWhole ? null : Math.round(to - from) });
});
let section = placed(), bar = Math.floor(player.position());
player.watch(host, (at) => {
  rows.playhead(at);
  if (player.isPlaying) rows.follow(at);
  if (Math.floor(at) !== bar) {
    bar = Math.floor(at);
    if (!document.querySelector(".section-tools:focus-within")) tools();
  }
  if (placed() !== section) {
    section = placed();
    drawFrame();
  }
});
draw();
showSteps(song, true);
if (asked.has("from")) rows.show(Number(asked.get("from")) - 1, Number(asked.get("bars")));
history.draw();
lookForStandstills();
document.fonts?.ready.then(() => sketch.draw());
window.matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => { sketch.measure(); sketch.draw(); });
