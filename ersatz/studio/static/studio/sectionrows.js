// @ts-check
// The two rows of sections on the Plan: the reference's with its portrait and changes, and the remake's, whose blocks are dragged.

import { edge, place } from "./bars.js";
import { node } from "./dom.js";
import { drag } from "./drag.js";
import { el, sectionNames } from "./draw.js";
import { changeSaid, opens } from "./pictures.js";
import { differenceSaid } from "./sections.js";
import { LIMITS } from "./vocabulary.js";
import { tip } from "./tips.js";

/** @typedef {import("./sections.js").PlanSong} PlanSong */
/** @typedef {import("./bars.js").BarRows} BarRows */
/** Where the song brings nothing new (ersatz/core/draft/variation.py).
 *  @typedef {{ section: string, kind: string, said: string, first: number, last: number, offers: string[] }} Standstill */

/** `clicked`: index of the section that is chosen, or null; `pick(index)` chooses one.
 *  @param {BarRows} rows
 *  @param {PlanSong} song
 *  @param {import("./states").ReferencePlan} reference
 *  @param {{ clicked: number | null, pick: (index: number) => void }} options */
export function referenceRows(rows, song, reference, { clicked, pick }) {
  const lane = rows.row(node("b", "ref", reference.bars === song.bars ? "Reference" : `Reference, ${reference.bars} bars`), 24, "portraitrow");
  const svg = el("svg", { viewBox: `0 0 ${reference.bars} 24`, preserveAspectRatio: "none", "aria-hidden": "true" });
  const tops = reference.level.map((v) => 24 - Math.max(0, 1 + v / 36) * 22);
  const line = tops.map((y, i) => `${i ? "L" : "M"}${i} ${y}L${i + 1} ${y}`).join("");
  svg.append(el("path", { class: "refarea", d: `${line}L${reference.bars} 24L0 24Z` }), el("path", { class: "refline", d: line }));
  lane.append(place(svg, 0, reference.bars));
  for (const c of reference.changes) {
    const mark = place(node("i", `refchange${opens(c) ? "" : " closes"}`), c.bar - 1, 0);
    tip(mark, `Reference, ${changeSaid(c)}`);
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
    tip(block, block.getAttribute("aria-label") ?? "");
    block.addEventListener("click", () => pick(i));
    blocks.append(block);
  });
}

/** `seek(bar)` is what a click does; `send` takes edits.
 *  @param {BarRows} rows
 *  @param {PlanSong} song
 *  @param {{ still: Standstill[], seek: (bar: number) => void, send: import("./edits.js").Send }} options */
export function ownRow(rows, song, { still, seek, send }) {
  const lane = rows.row(node("b", "own", "Remake"), 31, "ownrow");
  song.sections.forEach((s, i) => {
    const block = place(node("button", "ownsection"), s.start - 1, s.bars, 1);
    block.type = "button";
    block.dataset.own = String(i);
    const difference = song.differences.find((d) => d.section === s.id), said = difference ? differenceSaid(difference) : "";
    block.append(node("span", "", s.name));
    if (said) block.append(node("em", "", said));
    markStill(block, song, still);
    block.setAttribute("aria-label", `${s.name}, bars ${s.start} to ${s.start + s.bars - 1}${said ? `, ${said} than the reference’s`.replace("not in the reference than the reference’s", "not in the reference") : ""}`);
    tip(block, block.getAttribute("aria-label") ?? "");
    lane.append(block);
    movable(rows, song, block, i, { seek, send });
  });
  // The end of each section can be taken hold of.
  for (const s of song.sections) {
    const end = s.start - 1 + s.bars;
    lane.append(edge(rows, { bar: end, least: s.start, most: s.start - 1 + LIMITS.sectionBars[1], name: `End of ${s.name}, bar` }, (bar) => {
      send({ kind: "resize_section", section: s.id, bars: snapped(bar - (s.start - 1), s.bars) });
    }));
  }
}

/** Says on a section's block that it brings nothing new.
 *  @param {HTMLElement} block
 *  @param {PlanSong} song
 *  @param {Standstill[]} still */
export function markStill(block, song, still) {
  block.querySelector(".still")?.remove();
  const quiet = still.filter((f) => f.section === song.sections[Number(block.dataset.own)].id);
  if (quiet.length) block.append(node("i", "still", quiet.some((f) => f.kind === "same drop") ? "= again" : "= still"));
}

/** Lengths are even: within a bar of a multiple of four they become it.
 *  @param {number} bars
 *  @param {number} before */
function snapped(bars, before) {
  const four = Math.round(bars / 4) * 4;
  return four > 0 && four !== before && Math.abs(four - bars) <= 1 && Math.abs(bars - before) > 1 ? four : bars;
}

/** A section's block is dragged to another place in the plan; a click puts the playhead there.
 *  @param {BarRows} rows
 *  @param {PlanSong} song
 *  @param {HTMLElement} block
 *  @param {number} index
 *  @param {{ seek: (bar: number) => void, send: import("./edits.js").Send }} options */
function movable(rows, song, block, index, { seek, send }) {
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
  block.addEventListener("click", () => { if (!moved) seek(song.sections[index].start - 1); });
}
