// The plan: both section rows on one bar axis, parts by section, every cell a switch. The server keeps the song; this page
// sends edits with the revision they were made on and draws what comes back.

import { BarAxis, el, fresh, joint, label, playhead, readJson, redrawn, sectionRow } from "./draw.js";
import { edits } from "./edits.js";
import { button, choiceField, numberField } from "./fields.js";
import { player } from "./frame.js";
import { sectionTools } from "./sections.js";
import { editTitle } from "./title.js";

const HEAD = 206, TOP = 92, LANE = 36;
const host = document.getElementById("plan");
const says = document.getElementById("plan-says");
let song = readJson("drawing");
let picked = null;
const reference = song.reference;

const bars = () => Math.max(song.bars, reference?.bars ?? 0);
/** The song's own section under the playhead, also while the reference is heard. */
const placed = () => song.sections.findIndex((s) => player.position() >= s.start - 1 && player.position() < s.start - 1 + s.bars);
const axis = () => new BarAxis(HEAD, host.clientWidth - 2, bars());

function draw() {
  const focus = document.activeElement?.dataset?.cell, typed = document.activeElement?.dataset?.name, joined = document.activeElement?.getAttribute("aria-label");
  host.replaceChildren();
  const height = TOP + song.parts.length * LANE + 6;
  host.style.height = `${height}px`;
  const svg = el("svg", {});
  host.append(svg);
  fresh(svg, height);
  const a = axis();
  svg.append(...a.ticks(0));
  if (reference) svg.append(...sectionRow(a, reference.sections.map((s) => [s.label, s.start, s.bars]), 18, 28, "ref"));
  (reference?.usual ?? []).forEach(([low, high], i) => {
    const { start, bars: length, label: kind } = reference.sections[i];
    const said = low === high ? `${low}` : `${low}–${high}`;
    if (a.x(start + length) - a.x(start) > (said.length + kind.length + 2) * 7 + 22) svg.append(...label(a.x(start + length) - said.length * 6.4 - 9, 37, said, { class: "s" }));
  });
  const blocks = sectionRow(a, song.sections.map((s) => [s.label, s.start, s.bars]), 50, 28, "own", (i) => player.seek(song.sections[i].start - 1));
  blocks.forEach((block, i) => { block.dataset.own = i; });
  svg.append(...blocks);
  const here = placed();
  if (here >= 0 && song.sections[here]) {
    const s = song.sections[here];
    svg.append(el("rect", { class: "frame", x: a.x(s.start), y: 15, width: a.x(s.start + s.bars) - a.x(s.start), height: height - 19 }));
  }
  // The end of each section can be taken hold of.
  song.sections.forEach((section, i) => {
    const end = section.start + section.bars, name = `End of ${section.name}, bar`;
    svg.append(joint(svg, a, { bar: end, least: section.start + 1, most: section.start + 128, top: 48, bottom: 80, name }, (bar) => {
      send({ kind: "resize_section", section: section.id, bars: snapped(bar - section.start, section.bars) });
    }));
    dragged(svg.querySelectorAll("[data-own]")[i], a, i);
  });
  song.parts.forEach((part, row) => {
    const y = TOP + row * LANE;
    drawPresence(svg, a, part, y);
    host.append(rowHead(part, y));
    song.sections.forEach((section, column) => host.append(cell(part, section, a, y, row, column)));
  });
  playhead(svg, a, 0, height, player, [0, 16]);
  if (focus) host.querySelector(`[data-cell="${focus}"]`)?.focus();
  else if (joined?.startsWith("End of")) [...svg.querySelectorAll(".joint")].find((n) => n.getAttribute("aria-label") === joined)?.focus();
  tools();
  cellTools();
  if (typed) document.querySelector(`#cell-tools [data-name="${typed}"]`)?.focus();
}

/** Lengths are even: within a bar of a multiple of four they become it. */
function snapped(bars, before) {
  const four = Math.round(bars / 4) * 4;
  return four > 0 && four !== before && Math.abs(four - bars) <= 1 && Math.abs(bars - before) > 1 ? four : bars;
}

/** A section's block is dragged to another place in the plan. */
function dragged(block, a, index) {
  let from = null;
  block.addEventListener("pointerdown", (event) => { from = event.clientX; });
  block.addEventListener("pointermove", (event) => {
    if (from === null || Math.abs(event.clientX - from) < 8) return;
    if (!block.hasPointerCapture(event.pointerId)) block.setPointerCapture(event.pointerId);
    block.setAttribute("transform", `translate(${event.clientX - from} 0)`);
  });
  block.addEventListener("pointerup", (event) => {
    const by = from === null ? 0 : event.clientX - from;
    from = null;
    block.removeAttribute("transform");
    if (Math.abs(by) < 8) return;
    const { id, start, bars: length } = song.sections[index];
    const middle = a.bar(a.x(start + length / 2) + by);
    const place = song.sections.filter((s) => s.id !== id && s.start + s.bars / 2 < middle).length;
    if (place !== index) send({ kind: "move_section", section: id, place });
  });
}

/** What the cell that was last in hand plays. */
function cellTools() {
  const box = document.getElementById("cell-tools");
  const part = song.parts.find((p) => p.id === picked?.part), section = song.sections.find((s) => s.id === picked?.section);
  box.replaceChildren();
  const cell = part && section ? part.cells[section.id] : null;
  if (!cell?.on) {
    box.textContent = part && section ? `${part.name} doesn’t play in ${section.name}: press Enter on its cell to let it.` : "Click a cell to switch it; reach it by Tab and the arrow keys to see what it plays.";
    return;
  }
  const put = (change) => send({ kind: "set_cell", ...picked, pattern: cell.pattern, entry_bars: cell.entry, exit_bars: cell.exit, level_db: cell.level, ...change });
  const name = document.createElement("b");
  name.textContent = `${part.name} in ${section.name}`;
  const bars = (field, title, value, most) => numberField({ name: `cell-${field}`, title, unit: "bars", low: 0, high: most, value, scale: "linear", step: 1 }, (v) => put({ [field]: v }));
  box.append(
    name,
    choiceField({ name: "cell-pattern", title: "Pattern", options: part.patterns, value: cell.pattern }, (pattern) => put({ pattern })),
    bars("entry_bars", "Enters after", cell.entry, section.bars - 1 - cell.exit),
    bars("exit_bars", "Leaves early by", cell.exit, section.bars - 1 - cell.entry),
    numberField({ name: "cell-level", title: "Level", unit: "dB", low: -24, high: 12, value: cell.level, scale: "linear", step: 0.5 }, (v) => put({ level_db: v })),
  );
}

const tools = () => sectionTools(document.getElementById("section-tools"), song, reference, placed(), player.position(), send);

/** The reference's presence beneath a row: hatched boxes where it plays, as tall as it is strong. */
function drawPresence(svg, a, part, y) {
  const measured = reference?.presence[part.role];
  if (!measured) return;
  // A single bar more or less is no entry: the middle of five neighbours.
  const presence = measured.map((_, i) => measured.slice(Math.max(0, i - 2), i + 3).sort((x, y) => x - y)[Math.min(2, Math.floor((Math.min(measured.length, i + 3) - Math.max(0, i - 2)) / 2))]);
  let start = 0;
  for (let i = 1; i <= presence.length; i += 1) {
    const on = presence[start] >= 0.25;
    if (i < presence.length && presence[i] >= 0.25 === on) continue;
    if (on) {
      const x = a.x(start + 1);
      svg.append(el("rect", { class: "refbox", x: x + 1, y: y + 2, width: Math.max(2, a.x(i + 1) - x - 2), height: LANE - 6, "stroke-dasharray": presence[start] < 0.5 ? "3 3" : null }));
    }
    start = i;
  }
}

function rowHead(part, y) {
  const head = document.createElement("div");
  head.className = "rowhead";
  head.style.top = `${y - 2}px`;
  const name = document.createElement("b");
  name.textContent = part.name;
  name.title = part.duckDb ? `ducked by ${part.duckDb.toFixed(1)} dB` : "not ducked";
  const gain = document.createElement("input");
  Object.assign(gain, { type: "number", step: 0.5, min: -40, max: 18, value: part.gainDb.toFixed(1) });
  gain.setAttribute("aria-label", `Level of ${part.name}, dB`);
  gain.addEventListener("change", () => {
    const value = Number(gain.value);
    if (gain.value === "" || Number.isNaN(value)) gain.value = part.gainDb.toFixed(1);
    else send({ kind: "set_part_gain", part: part.id, gain_db: value });
  });
  const unit = document.createElement("span");
  unit.className = "soft";
  unit.textContent = "dB";
  head.append(name, gain, unit);
  return head;
}

function cell(part, section, a, y, row, column) {
  const found = part.cells[section.id];
  const on = Boolean(found?.on);
  const button = document.createElement("button");
  button.className = "cell";
  button.dataset.cell = `${row}.${column}`;
  const x = a.x(section.start), width = a.x(section.start + section.bars) - x;
  Object.assign(button.style, { left: `${x + 2}px`, top: `${y + 8}px`, width: `${Math.max(8, width - 4)}px` });
  if (on) {
    button.style.setProperty("--in", `${(100 * found.entry) / section.bars}%`);
    button.style.setProperty("--out", `${(100 * found.exit) / section.bars}%`);
    button.style.paddingLeft = `${(found.entry / section.bars) * (width - 4) + 6}px`;
  }
  button.textContent = on ? `${found.pattern}${found.level ? ` ${found.level > 0 ? "+" : "−"}${Math.abs(found.level)}` : ""}` : "";
  button.setAttribute("aria-pressed", String(on));
  button.setAttribute("aria-label", `${part.name} in ${section.name}`);
  button.title = `${part.name} in ${section.name}: ${on ? `pattern ${found.pattern}${found.entry ? `, enters after ${found.entry} bars` : ""}` : "off"}`;
  button.addEventListener("focus", () => { picked = { part: part.id, section: section.id }; cellTools(); });
  button.addEventListener("click", () => send({ kind: "switch_part", part: part.id, section: section.id, on: !on }));
  button.addEventListener("keydown", (event) => {
    const move = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] }[event.key];
    if (!move) return;
    event.preventDefault();
    host.querySelector(`[data-cell="${row + move[0]}.${column + move[1]}"]`)?.focus();
  });
  return button;
}

const send = edits({ url: host.dataset.edit, says, revision: () => song.revision, show, refused: draw });

function show(state) {
  song = { ...state, reference };
  document.getElementById("remake-title").textContent = song.title;
  player.replaceRemake(song.listen, { bars: song.bars, sections: song.sections.map((s) => [s.name, s.start, s.bars]) });
  draw();
  buttons();
}

function buttons() {
  for (const [id, sentence] of [["undo", song.undo], ["redo", song.redo]]) {
    const button = document.getElementById(id);
    button.disabled = !sentence;
    button.textContent = (id === "undo" ? "Undo" : "Redo") + (sentence ? `: ${sentence}` : "");
  }
  document.getElementById("history").replaceChildren(
    ...song.history.map(([number, sentence]) => {
      const item = document.createElement("li");
      item.value = number;
      const go = button(sentence, () => send.returnTo(number), "plain");
      go.setAttribute("aria-label", `Return to ${number}: ${sentence}`);
      if (number === song.revision) go.setAttribute("aria-current", "true");
      if (number > song.revision) item.className = "undone";
      item.append(go);
      return item;
    }),
  );
}

document.getElementById("rename").addEventListener("click", () => {
  editTitle(document.getElementById("remake-title"), song.title, (title) => send({ kind: "rename", title }));
});

let section = placed(), bar = Math.floor(player.position());
player.watch(host, () => {
  if (Math.floor(player.position()) !== bar) {
    bar = Math.floor(player.position());
    if (!document.getElementById("section-tools").contains(document.activeElement)) tools();
  }
  if (placed() !== section) {
    section = placed();
    if (!host.contains(document.activeElement) || document.activeElement.tagName !== "INPUT") draw();
  }
});
redrawn(draw);
buttons();
