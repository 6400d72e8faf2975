// The plan: both section rows on one bar axis, parts by section, transitions, one automated value. The server keeps the song; this page
// sends edits with the revision they were made on and draws what comes back.

import { asked, remember } from "./address.js";
import { Automation } from "./automation.js";
import { BarRows, edge, place } from "./bars.js";
import { Cells } from "./cells.js";
import { button, inputBox, node } from "./dom.js";
import { drag } from "./drag.js";
import { el, readJson, sectionNames } from "./draw.js";
import { edits } from "./edits.js";
import { readFigure, refuse, stepped } from "./fields.js";
import { player } from "./frame.js";
import { isForPage } from "./keys.js";
import { guideTools } from "./guide.js";
import { History } from "./history.js";
import { whenFree } from "./inhand.js";
import { changeSaid, opens } from "./pictures.js";
import { differenceSaid, sectionTools } from "./sections.js";
import { SoundPicker } from "./soundpicker.js";
import { songTools } from "./songtools.js";
import { standstillTools } from "./standstills.js";
import { editTitle } from "./title.js";
import { Transitions } from "./transitions.js";
import { ROLE_NAMES, TICKS_PER_BAR } from "./vocabulary.js";

const HEAD = 206;
const byId = (id) => document.getElementById(id);
const host = byId("plan"), says = byId("plan-says"), picture = byId("plan-notes");
const { reference, sounds, ...first } = readJson("drawing");
const fixed = { reference, sounds, id: Number(host.dataset.remake) };
let song = { ...first, ...fixed };
let clicked = null, still = [];

const rows = new BarRows(host, HEAD);
const send = edits({ url: host.dataset.edit, says, revision: () => song.revision, show, refused: () => draw() });
const ask = (wanted) => send.ask(wanted);
const cells = new Cells({ host, box: byId("cell-tools"), song: () => song, send, ask, says });
const transitions = new Transitions({ rows, box: byId("transition-tools"), song: () => song, send });
const automation = new Automation({ rows, box: byId("curve-tools"), song: () => song, send, says });
automation.onOpen = () => draw();
const history = new History({ list: byId("history"), kept: byId("milestones"), notice: says, url: host.dataset.home, state: () => song, send, player });

/** The song's own section under the playhead, also while the reference is heard. */
const placed = () => song.sections.findIndex((s) => player.position() >= s.start - 1 && player.position() < s.start - 1 + s.bars);

const draw = whenFree(host, drawAll);

function drawAll() {
  const focused = focusedThing();
  rows.clear(Math.max(song.bars, reference?.bars ?? 0));
  cells.clear();
  rows.ruler((bar) => player.seek(bar), addPart());
  if (reference) drawReference();
  drawOwn();
  song.parts.forEach((part, row) => {
    const lane = rows.row(partHead(part), 29, "partrow");
    if (Object.keys(part.patterns).length) {
      drawPresence(lane, part);
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
  measure();
  moved();
  focused();
}

/** What had the focus gets it again when everything is drawn anew. */
function focusedThing() {
  const active = document.activeElement, data = active?.dataset ?? {};
  const key = ["cell", "transition", "own", "name", "tool"].find((k) => data[k]);
  const label = active?.getAttribute?.("aria-label");
  return () => {
    const again = key ? document.querySelector(`[data-${key}="${CSS.escape(data[key])}"]`) : label && host.contains(active) === false ? [...document.querySelectorAll(".plan [aria-label], .section-tools [aria-label]")].find((n) => n.getAttribute("aria-label") === label) : null;
    again?.focus({ preventScroll: true });
  };
}

function drawReference() {
  const lane = rows.row(node("b", "ref", reference.bars === song.bars ? "Reference" : `Reference, ${reference.bars} bars`), 24, "portraitrow");
  const svg = el("svg", { viewBox: `0 0 ${reference.bars} 24`, preserveAspectRatio: "none", "aria-hidden": "true" });
  const tops = reference.level.map((v) => 24 - Math.max(0, 1 + v / 36) * 22);
  const line = tops.map((y, i) => `${i ? "L" : "M"}${i} ${y}L${i + 1} ${y}`).join("");
  svg.append(el("path", { class: "refarea", d: `${line}L${reference.bars} 24L0 24Z` }), el("path", { class: "refline", d: line }));
  lane.append(place(svg, 0, reference.bars));
  for (const c of reference.changes) {
    const mark = place(node("i", `refchange${opens(c) ? "" : " closes"}`), c.bar - 1, 0);
    mark.title = `Reference, ${changeSaid(c)}`;
    lane.append(mark);
  }
  const blocks = rows.row("", 28, "refrow"), names = sectionNames(reference.sections.map((s) => [s.label]));
  const missing = new Set(song.differences.filter((d) => !d.section).map((d) => d.counterpart));
  reference.sections.forEach((s, i) => {
    const block = place(node("button", `refsection${i === clicked ? " chosen" : ""}`), s.start - 1, s.bars, 1);
    block.type = "button";
    const usual = reference.usual[i] ? `, usually ${reference.usual[i][0] === reference.usual[i][1] ? reference.usual[i][0] : `${reference.usual[i][0]} to ${reference.usual[i][1]}`} bars` : "";
    block.append(node("span", "", names[i]));
    if (missing.has(i)) block.append(node("em", "", "missing"));
    block.setAttribute("aria-label", `Reference: ${names[i]}, bars ${s.start} to ${s.start + s.bars - 1}${usual}${missing.has(i) ? ", missing in the remake" : ""}`);
    block.title = block.getAttribute("aria-label");
    block.addEventListener("click", () => { clicked = clicked === i ? null : i; draw(); });
    blocks.append(block);
  });
}

function drawOwn() {
  const lane = rows.row(node("b", "own", "Remake"), 31, "ownrow");
  song.sections.forEach((s, i) => {
    const block = place(node("button", "ownsection"), s.start - 1, s.bars, 1);
    block.type = "button";
    block.dataset.own = i;
    const difference = song.differences.find((d) => d.section === s.id), said = difference ? differenceSaid(difference) : "";
    block.append(node("span", "", s.name));
    if (said) block.append(node("em", "", said));
    markStill(block);
    block.setAttribute("aria-label", `${s.name}, bars ${s.start} to ${s.start + s.bars - 1}${said ? `, ${said} than the reference’s`.replace("not in the reference than the reference’s", "not in the reference") : ""}`);
    block.title = block.getAttribute("aria-label");
    lane.append(block);
    dragged(block, i);
  });
  // The end of each section can be taken hold of.
  for (const s of song.sections) {
    const end = s.start - 1 + s.bars;
    lane.append(edge(rows, { bar: end, least: s.start, most: s.start + 127, name: `End of ${s.name}, bar` }, (bar) => {
      send({ kind: "resize_section", section: s.id, bars: snapped(bar - (s.start - 1), s.bars) });
    }));
  }
}

/** Says on a section's block that it brings nothing new. */
function markStill(block) {
  block.querySelector(".still")?.remove();
  const quiet = still.filter((f) => f.section === song.sections[block.dataset.own].id);
  if (quiet.length) block.append(node("i", "still", quiet.some((f) => f.kind === "same drop") ? "= again" : "= still"));
}

/** Lengths are even: within a bar of a multiple of four they become it. */
function snapped(bars, before) {
  const four = Math.round(bars / 4) * 4;
  return four > 0 && four !== before && Math.abs(four - bars) <= 1 && Math.abs(bars - before) > 1 ? four : bars;
}

/** A section's block is dragged to another place in the plan; a click puts the playhead there. */
function dragged(block, index) {
  let moved = false;
  block.addEventListener("pointerdown", (event) => {
    if (event.button !== 0) return;
    let by = 0;
    moved = false;
    block.focus({ preventScroll: true });
    drag(event, block, {
      move: (e) => {
        by = e.clientX - event.clientX;
        moved ||= Math.abs(by) >= 8;
        if (moved) block.style.transform = `translateX(${by}px)`;
      },
      done: (kept) => {
        block.style.transform = "";
        if (!kept || Math.abs(by) < 8) return;
        const { id, start, bars: length } = song.sections[index];
        const middle = start - 1 + length / 2 + by / rows.perBar;
        const there = song.sections.filter((s) => s.id !== id && s.start - 1 + s.bars / 2 < middle).length;
        if (there !== index) send({ kind: "move_section", section: id, place: there });
      },
    });
  });
  block.addEventListener("click", () => { if (!moved) player.seek(song.sections[index].start - 1); });
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

/** The reference's presence beneath a row: hatched boxes where it plays. */
function drawPresence(lane, part) {
  const measured = reference?.presence[part.role];
  if (!measured) return;
  // A single bar more or less is no entry: the middle of five neighbours.
  const presence = measured.map((_, i) => {
    const near = measured.slice(Math.max(0, i - 2), i + 3).sort((x, y) => x - y);
    return near[Math.floor(near.length / 2)];
  });
  let start = 0;
  for (let i = 1; i <= presence.length; i += 1) {
    const on = presence[start] >= 0.25;
    if (i < presence.length && presence[i] >= 0.25 === on) continue;
    if (on) lane.append(place(node("i", `presence${presence[start] < 0.5 ? " faint" : ""}`), start, i - start, 1));
    start = i;
  }
}

function partHead(part) {
  const head = document.createDocumentFragment();
  const name = node("a", "partname", part.name);
  name.href = `${host.dataset.home}parts/${part.id}/${Object.keys(part.patterns).length ? "notes/" : ""}`;
  name.title = `Open ${part.name}; ${part.duckDb ? `ducked by ${part.duckDb.toFixed(1)} dB` : "not ducked"}`;
  const gain = inputBox();
  Object.assign(gain, { type: "text", inputMode: "decimal", value: part.gainDb.toFixed(1) });
  stepped(gain, 0.5);
  gain.setAttribute("aria-label", `Level of ${part.name}, dB`);
  gain.addEventListener("change", () => {
    const { value, sentence } = readFigure({ title: `The level of ${part.name}`, unit: "dB", low: -40, high: 18 }, gain.value);
    refuse(gain, sentence ?? "");
    if (value === undefined) gain.value = part.gainDb.toFixed(1);
    else send({ kind: "set_strip", strip: part.id, name: "gain_db", value });
  });
  head.append(name, gain, node("span", "soft", "dB"));
  return head;
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
  const owner = song.parts.find((p) => p.id === automation.owner)?.name ?? automation.owner.replace("bus:", "") + (automation.owner.startsWith("bus:") ? " bus" : "");
  head.append(node("b", "", owner), node("small", "soft", automation.targets.find(([t]) => t === automation.target)?.[1] ?? ""));
  return head;
}

/** The notes of the cells in view, once there is room for them: small marks on the ink, higher for higher notes. */
function drawNotes() {
  const context = picture.getContext("2d"), ratio = window.devicePixelRatio || 1;
  const width = rows.room + 2, height = host.clientHeight;
  if (picture.width !== Math.round(width * ratio) || picture.height !== Math.round(height * ratio)) {
    picture.width = Math.round(width * ratio);
    picture.height = Math.round(height * ratio);
    Object.assign(picture.style, { width: `${width}px`, height: `${height}px`, left: `${HEAD}px` });
  }
  context.setTransform(ratio, 0, 0, ratio, 0, 0);
  context.clearRect(0, 0, width, height);
  if (rows.perBar >= 22) drawPatterns(context);
  drawStuck(context);
}

function drawPatterns(context) {
  context.fillStyle = inks.onown;
  const [from, to] = rows.view;
  song.parts.forEach((part, row) => {
    const top = tops.parts[row] + 17;
    for (const section of song.sections) {
      const cell = part.cells[section.id], start = section.start - 1;
      if (!cell?.on || start > to || start + section.bars < from) continue;
      const pattern = part.patterns[cell.pattern];
      const leaves = section.bars - cell.exit;
      drawPattern(context, pattern, start, start + cell.entry, start + leaves - cell.fillBars, top);
      if (cell.fillBars) drawPattern(context, part.patterns[cell.fill], start + leaves - cell.fillBars, start + leaves - cell.fillBars, start + leaves, top);
    }
  });
}

/** Where rows begin and which inks are used: read once when everything is drawn, not while it moves. */
function measure() {
  const style = getComputedStyle(host);
  inks = { own: style.getPropertyValue("--own"), onown: style.getPropertyValue("--onown"), ref: style.getPropertyValue("--ref"), film: style.getPropertyValue("--film") };
  tops = { own: host.querySelector(".ownrow").offsetTop, ref: host.querySelector(".refrow")?.offsetTop, parts: [...host.querySelectorAll(".partrow")].map((r) => r.offsetTop) };
}
let inks = {}, tops = {};

/** Names of what begins left of the view stay in sight at its edge. */
function drawStuck(context) {
  const [from, to] = rows.view;
  context.font = `600 12.5px Film, system-ui, sans-serif`;
  const stuck = (text, start, bars, top, ink) => {
    if (start >= from || start + bars <= from || (start + bars - from) * rows.perBar < context.measureText(text).width + 14) return;
    context.fillStyle = ink === inks.ref ? inks.film : inks.own;
    context.fillRect(4, top - 11, context.measureText(text).width + 8, 14);
    context.fillStyle = ink;
    context.fillText(text, 8, top);
  };
  for (const s of song.sections) {
    if (s.start - 1 > to) break;
    stuck(s.name, s.start - 1, s.bars, tops.own + 20, inks.onown);
    song.parts.forEach((part, row) => {
      const cell = part.cells[s.id];
      if (cell?.on) stuck(cell.pattern, s.start - 1 + cell.entry, s.bars - cell.entry - cell.exit, tops.parts[row] + 19, inks.onown);
    });
  }
  const names = reference ? sectionNames(reference.sections.map((s) => [s.label])) : [];
  reference?.sections.forEach((s, i) => stuck(names[i], s.start - 1, s.bars, tops.ref + 18, inks.ref));
}

function drawPattern(context, pattern, anchor, begin, end, top) {
  if (!pattern?.notes.length) return;
  const length = pattern.loop ? pattern.loop / TICKS_PER_BAR : pattern.bars, [from, to] = rows.view;
  const low = Math.min(...pattern.notes.map((n) => n[2])), span = Math.max(12, ...pattern.notes.map((n) => n[2] - low));
  for (let repeat = Math.max(0, Math.floor((from - anchor) / length)); anchor + repeat * length < Math.min(end, to); repeat += 1) {
    for (const [tick, ticks, midi] of pattern.notes) {
      const bar = anchor + repeat * length + tick / TICKS_PER_BAR;
      if (bar < begin || bar >= end || bar > to || tick / TICKS_PER_BAR >= length) continue;
      const x = (bar - from) * rows.perBar, wide = Math.max(1.5, Math.min(ticks / TICKS_PER_BAR, end - bar) * rows.perBar - 1);
      if (x + wide > 0) context.fillRect(x, top + 5 - ((midi - low) / span) * 5, wide, 1.6);
    }
  }
}

function tools() {
  const here = placed(), section = song.sections[here];
  sectionTools(byId("section-tools"), { song, here, bar: player.position(), there: clicked, send, ask });
  transitions.tools(section);
  automation.tools(section);
  songTools(byId("song"), { song, send, redraw: tools });
  if (player) guideTools(byId("guide-tools"), { player, song, section, redraw: tools });
}

function show(state) {
  song = { ...state, ...fixed };
  history.hearing = null;
  byId("remake-title").textContent = song.title;
  player.replaceRemake(song.listen, { bars: song.bars, bpm: song.bpm, sections: song.sections.map((s) => [s.name, s.start, s.bars]) });
  draw();
  buttons();
  history.draw();
  lookForStandstills();
}

function buttons() {
  for (const [id, sentence] of [["undo", song.undo], ["redo", song.redo]]) {
    const one = byId(id);
    one.disabled = !sentence;
    one.textContent = (id === "undo" ? "Undo" : "Redo") + (sentence ? `: ${sentence}` : "");
    one.title = sentence ?? "";
  }
}

let looked = null;
/** Where nothing new comes, a moment after the last edit. */
function lookForStandstills() {
  clearTimeout(looked);
  looked = setTimeout(async () => {
    const { sha } = song;
    const answer = await fetch(`${host.dataset.home}standing-still/`).catch(() => null);
    if (!answer?.ok || sha !== song.sha) return;
    still = (await answer.json()).found;
    standstillTools(byId("still"), { still, song, player, ask });
    for (const block of host.querySelectorAll("[data-own]")) markStill(block);
  }, 900);
}

/** The draft is matched behind the page: what that makes takes the place of what plays. */
byId("matching")?.addEventListener("job-ended", async ({ detail: job }) => {
  byId("matching").remove();
  if (job.state !== "done") says.textContent = job.message;
  const answer = await fetch(`${host.dataset.home}now/`).catch(() => null), now = answer?.ok ? await answer.json() : null;
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
  const act = { "+": () => rows.zoom(1.6), "=": () => rows.zoom(1.6), "-": () => rows.zoom(1 / 1.6), "_": () => rows.fit(), u: () => byId("guide-on")?.click() }[event.key];
  if (act) {
    event.preventDefault();
    act();
  }
});
byId("midi-file").addEventListener("change", (event) => {
  const [file] = event.target.files;
  event.target.value = "";
  if (!file) return;
  const body = new FormData();
  body.append("file", file);
  body.append("revision", song.revision);
  send.post(`${host.dataset.home}midi/`, body);
});

/** After every zoom and scroll. */
function moved() {
  cells.reveal(...rows.view);
  drawNotes();
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
buttons();
if (asked.has("from")) rows.show(Number(asked.get("from")) - 1, Number(asked.get("bars")));
history.draw();
lookForStandstills();
document.fonts?.ready.then(drawNotes);
window.matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => { measure(); drawNotes(); });
