// @ts-check
// The section under the playhead: its name and length, its place, room before it and bars of it, and what the reference has there.

import { button, inputBox, menu, node, row, selectBox } from "./dom.js";
import { readFigure, refuse, stepped } from "./fields.js";
import { tip } from "./tips.js";
import { editTitle } from "./title.js";
import { LABELS, LIMITS } from "./vocabulary.js";

/** @typedef {import("./states").PlanDifference} Difference */
/** The song as the Plan has it, with what no edit changes.
 *  @typedef {import("./states").PlanState & import("./states").PlanFixed & { id: number }} PlanSong */
/** @typedef {(edit: object) => void} Send */

const some = (/** @type {number} */ count, what = "bar") => `${Math.abs(count)} ${what}${Math.abs(count) === 1 ? "" : "s"}`;

/** How a section stands to its counterpart, in words; "" where it is the same.
 *  @param {Difference} difference */
export function differenceSaid({ section, counterpart, later_bars: later, longer_bars: longer }) {
  if (!section) return "missing";
  if (counterpart === null) return "not in the reference";
  return [later && `${some(later)} ${later > 0 ? "later" : "earlier"}`, longer && `${some(longer)} ${longer > 0 ? "longer" : "shorter"}`].filter(Boolean).join(", ");
}

/** Fills `box`; `here` is the section's index, `bar` the playhead's 0-based bar, `send` takes an edit, `ask` what needs the reference;
 *  `there` is the index of a section of the reference that was clicked, or null.
 *  @param {Element} box
 *  @param {{ song: PlanSong, here: number, bar: number, there: number | null, send: Send, ask: Send }} options */
export function sectionTools(box, { song, here, bar, there, send, ask }) {
  const section = song.sections[here];
  box.replaceChildren();
  if (!section) return;
  const own = (/** @type {string} */ kind, more = {}) => send({ kind, section: section.id, ...more });
  /** @type {HTMLButtonElement} */
  const name = button(section.name, () => editTitle(name, section.name, (title) => own("rename_section", { name: title === section.label ? "" : title })), "section-name");
  tip(name, "Give it a name of your own");

  const label = selectBox();
  label.setAttribute("aria-label", `What ${section.name} is`);
  label.dataset.tool = "label";
  for (const option of LABELS) label.add(new Option(option, option, false, option === section.label));
  label.addEventListener("change", () => own("relabel_section", { label: label.value }));

  const length = inputBox();
  Object.assign(length, { type: "text", inputMode: "decimal", size: 4, value: String(section.bars) });
  length.setAttribute("aria-label", `Bars of ${section.name}`);
  length.dataset.tool = "bars";
  stepped(length, 1);
  length.addEventListener("change", () => {
    const { value, sentence } = readFigure({ title: `The length of ${section.name}`, unit: "bars", low: LIMITS.sectionBars[0], high: LIMITS.sectionBars[1], step: 1 }, length.value);
    refuse(length, sentence ?? "");
    if (value !== undefined && value !== section.bars) own("resize_section", { bars: value });
    else length.value = String(section.bars);
  });

  const inside = Math.floor(bar) - (section.start - 1), at = Math.floor(bar) + 1;
  const tool = (/** @type {string} */ title, /** @type {() => void} */ act, possible = true) => {
    const made = button(title, act);
    made.disabled = !possible;
    return made;
  };
  box.append(
    name, label, length, node("span", "", "bars"),
    tool("Move left", () => own("move_section", { place: here - 1 }), here > 0),
    tool("Move right", () => own("move_section", { place: here + 1 }), here + 1 < song.sections.length),
    tool("Add section", () => send({ kind: "add_section", label: section.label, bars: 8, place: here + 1 })),
    tool("Duplicate", () => own("duplicate_section")),
    tool(inside > 0 ? `Split at bar ${section.start + inside}` : "Split", () => own("split_section", { bars: inside }), inside > 0 && inside < section.bars),
    tool("Merge with next", () => own("merge_section"), here + 1 < song.sections.length),
    tool("Delete", () => own("delete_section"), song.sections.length > 1),
    barTools(song, at, send),
  );
  if (!song.reference) return;
  const difference = song.differences.find((d) => d.section === section.id);
  const theirs = difference?.counterpart != null ? song.reference.sections[difference.counterpart] : null;
  const said = theirs ? `reference: bars ${theirs.start} to ${theirs.start + theirs.bars - 1}${difference && differenceSaid(difference) ? `, here ${differenceSaid(difference)}` : ""}` : "not in the reference";
  box.append(node("span", "soft refsays", said));
  if (theirs && theirs.bars !== section.bars) box.append(tool(`As long: ${theirs.bars} bars`, () => own("resize_section", { bars: theirs.bars })));
  const clicked = there === null ? null : song.reference.sections[there];
  if (clicked && song.differences.some((d) => d.counterpart === there && differenceSaid(d))) box.append(tool(`Adopt ${clicked.label}, ${clicked.bars} bars`, () => ask({ kind: "adopt_reference", section: there })));
  if (song.differences.some(differenceSaid)) box.append(tool("Adopt its whole plan", () => ask({ kind: "adopt_reference", section: null })));
}

/** Bars of all parts at once, from the playhead on.
 *  @param {PlanSong} song
 *  @param {number} at
 *  @param {Send} send */
function barTools(song, at, send) {
  const rest = song.bars - at + 1, lengths = [1, 2, 4, 8], left = lengths.filter((b) => b <= rest);
  return menu(`Bars from ${at} on`, [
    "Insert empty bars", ...lengths.map((bars) => row(`Insert ${some(bars)}`, () => send({ kind: "insert_bars", bar: at, bars }))),
    "Delete bars of all parts", ...left.filter((b) => b < song.bars).map((bars) => row(`Delete ${some(bars)}`, () => send({ kind: "delete_bars", first: at, last: at + bars - 1 }))),
    "Duplicate bars of all parts", ...left.map((bars) => row(`Duplicate ${some(bars)}`, () => send({ kind: "duplicate_bars", first: at, last: at + bars - 1 }))),
  ], { name: "bars-menu" });
}
