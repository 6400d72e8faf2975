// @ts-check
// The course of every figure over the measured songs: how many tolerances it was off, the nearer to the line the better.

import { el, path } from "./draw.js";
import { mark, node } from "./dom.js";
import { tip } from "./tips.js";

const WIDTH = 150, HEIGHT = 22, PAD = 4;

/** Places of the songs that a row knows: [x, y], null for those that it doesn't.
 *  @param {(number | null)[]} off
 *  @param {number} most  Tolerances that reach to the top.
 *  @returns {([number, number] | null)[]} */
export function places(off, most) {
  const step = off.length > 1 ? (WIDTH - 2 * PAD) / (off.length - 1) : 0;
  return off.map((v, i) => (v === null ? null : [PAD + i * step, HEIGHT - PAD - (Math.min(v, most) / most) * (HEIGHT - 2 * PAD)]));
}

/** @param {import("./states").GapProgress} progress
 *  @param {(number | null)[]} off */
function line({ songs, mostOff }, off) {
  const svg = el("svg", { width: WIDTH, height: HEIGHT, viewBox: `0 0 ${WIDTH} ${HEIGHT}`, "aria-hidden": "true" });
  const matched = HEIGHT - PAD - (HEIGHT - 2 * PAD) / mostOff;
  svg.append(el("line", { class: "grid", x1: 0, x2: WIDTH, y1: matched, y2: matched, "stroke-dasharray": "3 3" }));
  const found = places(off, mostOff), known = found.filter((p) => p !== null);
  if (known.length > 1) svg.append(el("path", { class: "ownline", d: path(known) }));
  found.forEach((place, i) => {
    if (!place) return;
    const [x, y] = place, { isKept, isCurrent } = songs[i];
    if (isKept) svg.append(el("rect", { class: "ownbox", x: x - 3, y: y - 3, width: 6, height: 6 }));
    else if (isCurrent) svg.append(el("circle", { class: "ownbox", cx: x, cy: y, r: 3 }));
  });
  return svg;
}

/** Fills the table; nothing is drawn before two songs are measured.
 *  @param {HTMLElement} box
 *  @param {import("./states").GapProgress} progress */
export function drawProgress(box, progress) {
  const { songs, figures, rows } = progress;
  if (songs.length < 2) {
    box.replaceChildren(node("p", "soft", "The course of the figures begins with the second song that is measured: change something and come back, or keep a version."));
    return;
  }
  const first = songs[0], last = songs[songs.length - 1], table = node("table"), body = node("tbody"), head = node("thead");
  const caption = node("caption", "", `${first.matched} → ${last.matched} of ${figures} figures matched over ${songs.length} measured songs, from “${first.name}” to “${last.name}”`);
  const titles = node("tr");
  titles.append(...["Figure", "first", "course", "now"].map((title) => { const th = node("th", title === "Figure" ? "" : "soft", title); th.setAttribute("scope", "col"); return th; }));
  head.append(titles);
  for (const { name, unit, off, first: was, last: now } of rows) {
    const row = node("tr"), title = node("th", "", unit ? `${name}, ${unit}` : name), course = node("td");
    title.setAttribute("scope", "row");
    if (off.some((v) => v !== null)) course.append(line(progress, off), node("span", "unseen", off.map((v) => (v === null ? "not told" : `${v.toFixed(1)} tolerances off`)).join(", ")));
    else course.append(mark("soft", "–"));
    tip(course, songs.map(({ name: song, isKept }, i) => `${isKept ? "■ " : ""}${song}: ${off[i] === null ? "–" : `${/** @type {number} */ (off[i]).toFixed(1)} tolerances off`}`).slice(-8).join("\n"));
    row.append(title, node("td", "", was), course, node("td", "own", now));
    body.append(row);
  }
  table.append(caption, head, body);
  box.replaceChildren(table, node("p", "soft", "Lower is nearer; under the dashed line a figure is matched. ■ a kept version, ● the song as it is."));
}
