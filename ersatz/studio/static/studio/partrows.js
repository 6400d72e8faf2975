// @ts-check
// What stands at the head of a part's row on the Plan, and the reference's presence beneath it.

import { place } from "./bars.js";
import { inputBox, node } from "./dom.js";
import { readFigure, refuse, stepped } from "./fields.js";
import { LIMITS } from "./vocabulary.js";
import { tip } from "./tips.js";

/** @typedef {import("./states").PlanPart} PlanPart */

/** The reference's presence beneath a row, per bar 0..1: hatched boxes where it plays.
 *  @param {Element} lane
 *  @param {number[]} measured */
export function presenceBoxes(lane, measured) {
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

/** Its name, which opens it, and its level. `home`: where the remake's pages are.
 *  @param {PlanPart} part
 *  @param {string} home
 *  @param {import("./edits.js").Send} send */
export function partHead(part, home, send) {
  const head = document.createDocumentFragment();
  const name = node("a", "partname", part.name);
  name.href = `${home}parts/${part.id}/${Object.keys(part.patterns).length ? "notes/" : ""}`;
  tip(name, `Open ${part.name}; ${part.duckDb ? `ducked by ${part.duckDb.toFixed(1)} dB` : "not ducked"}`);
  const gain = inputBox();
  Object.assign(gain, { type: "text", inputMode: "decimal", value: part.gainDb.toFixed(1) });
  stepped(gain, 0.5);
  gain.setAttribute("aria-label", `Level of ${part.name}, dB`);
  gain.addEventListener("change", () => {
    const { value, sentence } = readFigure({ title: `The level of ${part.name}`, unit: "dB", low: LIMITS.faderDb[0], high: LIMITS.faderDb[1] }, gain.value);
    refuse(gain, sentence ?? "");
    if (value === undefined) gain.value = part.gainDb.toFixed(1);
    else send({ kind: "set_strip", strip: part.id, name: "gain_db", value });
  });
  head.append(name, gain, node("span", "soft", "dB"));
  return head;
}
