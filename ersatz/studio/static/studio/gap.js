// @ts-check
// The gap: both inks on one bar axis, one frequency axis, one beat axis. What shows between them is the gap.

import { BarAxis, corridor, el, frequencyAxis, fresh, label, minus, ownCurve, playhead, readJson, redrawn, refCurve, sectionRow, text } from "./draw.js";
import { byId, dataOf, svgById as svg } from "./dom.js";
import { player } from "./frame.js";
import { edits, showSteps } from "./edits.js";
import { follow } from "./http.js";
import { isForPage } from "./keys.js";
import { listeningTools } from "./listening.js";
import { MovesPanel } from "./moves.js";
import { OwnPanel } from "./own.js";
import { drawProgress } from "./progress.js";
import { LIMITS } from "./vocabulary.js";

/** @typedef {import("./draw.js").Point} Point */

/** @type {import("./states").GapDrawing & import("./states").GapState & import("./states").GapFixed & import("./states").GapProgress} */
let gap = readJson("drawing");
/** Differences from here on are written beside the curves, dB. */
const WORTH_SAYING_DB = 2;
/** Names of the rows stand in so much on the left of the bars, px. */
const HEAD = 128;

/** @type {OwnPanel | null} */
let own = null;

const openSection = (/** @type {number} */ i) => location.assign(`?section=${i}`);

function score() {
  const host = byId("gap-score"), node = host.querySelector("svg") ?? host.appendChild(el("svg", { role: "group", "aria-label": "Sections of both" }));
  const { width } = fresh(node, 80);
  const axis = new BarAxis(HEAD, width - 2, Math.max(gap.reference.bars, gap.remake.bars));
  node.append(...axis.ticks(0), text(0, 37, gap.corridors ? "target" : "reference", { class: "s" }), text(0, 68, "remake", { class: "s" }));
  node.append(...sectionRow(axis, gap.reference.sections, 18, 28, "ref", openSection));
  node.append(...sectionRow(axis, gap.remake.sections, 49, 28, "own"));
  // The map below has its columns on the same axis.
  byId("gap-map").querySelectorAll("col").forEach((col, i) => { col.style.width = `${i ? axis.x(gap.reference.sections[i - 1][2] + 1) - axis.x(1) : HEAD}px`; });
  const [, start, bars] = gap.reference.sections[gap.section];
  node.append(el("rect", { class: "frame", x: axis.x(start), y: 15, width: axis.x(start + bars) - axis.x(start), height: 65 }));
  playhead(node, axis, 0, 80, player, [0, 16]);
}

function spectrum() {
  const node = svg("gap-spectrum");
  const { width, height } = fresh(node);
  const bottom = height - 18;
  const { x, grid } = frequencyAxis(26, width - 4, 25, 20000, 0, bottom);
  const reference = gap.reference.levelDb;
  const remake = reference.map((v, i) => v + gap.differenceDb[i]);
  const top = Math.max(...reference, ...remake) + 1;
  const y = (/** @type {number} */ v) => 4 + Math.min(1, (top - v) / 46) * (bottom - 6);
  const inside = gap.hz.map((hz, i) => i).filter((i) => gap.hz[i] >= 25);
  node.append(...grid);
  for (let db = 0; db > -46; db -= 10) node.append(text(0, y(top + db) + 4, minus(Math.round(top + db)), { class: "s" }));
  const curve = (/** @type {number[]} */ levels) => inside.map((i) => [x(gap.hz[i]), y(levels[i])]);
  const usual = gap.corridors?.spectrum;
  node.append(...(usual ? corridor(curve(usual.low), curve(usual.high), curve(reference)) : refCurve(curve(reference), bottom)));
  node.append(ownCurve(inside.map((i) => [x(gap.hz[i]), y(remake[i])])));
  for (const i of inside) {
    const difference = usual ? Math.min(0, remake[i] - usual.low[i]) + Math.max(0, remake[i] - usual.high[i]) : gap.differenceDb[i];
    if (gap.hz[i] < LIMITS.balanceHz[0] || gap.hz[i] > LIMITS.balanceHz[1] || Math.abs(difference) < WORTH_SAYING_DB) continue;
    const at = x(gap.hz[i]), a = y(remake[i] - difference), b = y(remake[i]);
    node.append(el("line", { class: "lookline", x1: at, x2: at, y1: a, y2: b, "stroke-width": 2 }));
    // Two lines of figures along the bottom, where no curve runs; two bands apart there is room for one.
    const said = `${difference > 0 ? "+" : ""}${minus(difference.toFixed(1))}`;
    node.append(...label(at - 3.2 * said.length, bottom - (i % 2 ? 21 : 5), said, { "font-weight": 600 }));
  }
}

function pump() {
  const node = svg("gap-pump");
  const { width, height } = fresh(node);
  const bottom = height - 16, left = 26;
  const usual = gap.corridors?.pump;
  const deepest = Math.max(6, gap.reference.pumpDepthDb, gap.remake.pumpDepthDb, ...(usual?.low.map((v) => -v) ?? [])) * 1.1;
  const y = (/** @type {number} */ v) => 6 + (-v / deepest) * (bottom - 8);
  const points = (/** @type {number[]} */ curve) => curve.map((v, i) => [left + (i / (curve.length - 1)) * (width - left - 4), y(v)]);
  for (let db = 0; db < deepest; db += deepest > 14 ? 6 : 3) {
    node.append(el("line", { class: "grid", x1: left, x2: width, y1: y(-db), y2: y(-db) }), text(0, y(-db) + 4, db ? `−${db}` : "0", { class: "s" }));
  }
  const theirs = points(gap.reference.pumpDb);
  node.append(...(usual ? corridor(points(usual.low), points(usual.high), theirs) : refCurve(theirs, bottom)), ownCurve(points(gap.remake.pumpDb)));
  for (let k = 0; k < 4; k += 1) node.append(text(left + (k / 4) * (width - left - 4), height - 3, `${Math.round((k / 4) * gap.beatMs)}${k ? "" : " ms"}`, { class: "s" }));
}

function loudness() {
  const node = svg("gap-loudness");
  const { width, height } = fresh(node);
  const bottom = height - 16, left = 26;
  const axis = new BarAxis(left, width - 4, Math.max(gap.reference.bars, gap.remake.bars));
  const top = Math.max(...gap.reference.shortTerm.map(([, v]) => v), ...gap.remake.shortTerm.map(([, v]) => v)) + 1;
  const y = (/** @type {number} */ v) => 4 + Math.min(1, (top - v) / 18) * (bottom - 6);
  const points = (/** @type {[number, number][]} */ course) => course.filter(([bar]) => bar >= 1 && bar <= axis.bars + 1).map(([bar, v]) => [axis.x(bar), y(v)]);
  for (const db of [0, 6, 12]) node.append(el("line", { class: "grid", x1: left, x2: width, y1: y(top - 1 - db), y2: y(top - 1 - db) }), text(0, y(top - 1 - db) + 4, minus(Math.round(top - 1 - db)), { class: "s" }));
  const theirs = points(gap.reference.shortTerm), mine = points(gap.remake.shortTerm);
  const usual = gap.corridors?.loudness;
  const steps = (/** @type {number[]} */ values) => values.flatMap((v, i) => [[axis.x(i + 1), y(v)], [axis.x(i + 2), y(v)]]);
  if (usual) node.append(...corridor(steps(usual.low), steps(usual.high), theirs));
  else if (theirs.length > 1) node.append(...refCurve(theirs, bottom));
  if (mine.length > 1) node.append(ownCurve(mine));
  for (let bar = 1; bar <= axis.bars; bar += 32) node.append(text(axis.x(bar), height - 3, bar, { class: "s" }));
}

byId("work").addEventListener("click", (event) => {
  const cell = /** @type {HTMLElement} */ (event.target).closest("#gap-map td");
  if (cell instanceof HTMLElement) openSection(Number(dataOf(cell, "section")));
});
function drawAll() {
  score();
  spectrum();
  pump();
  loudness();
}
drawProgress(byId("gap-progress"), gap);
redrawn(() => { drawAll(); own?.draw(); });

/** Groups of figures that are open stay so.
 *  @param {Element} from
 *  @param {Element} to */
function keepOpen(from, to) {
  const open = new Set([...from.querySelectorAll("details[open] summary")].map((s) => s.firstChild?.textContent));
  for (const summary of to.querySelectorAll("summary")) summary.parentElement?.toggleAttribute("open", open.has(summary.firstChild?.textContent));
}

/** The figures as the server has them by now, in the place of those that stand here; what plays goes on. */
async function renew() {
  const answer = await fetch(location.href), page = answer.ok ? new DOMParser().parseFromString(await answer.text(), "text/html") : null;
  const state = page?.getElementById("drawing")?.textContent, tracks = page?.getElementById("player-data")?.textContent;
  if (!page || !state) return;
  for (const id of ["gap-notice", "gap-map", "gap-figures", "gap-groups"]) {
    const fresh = page.getElementById(id), old = byId(id);
    if (!fresh) continue;
    keepOpen(old, fresh);
    old.replaceWith(document.adoptNode(fresh));
  }
  const before = gap.sha;
  gap = JSON.parse(state);
  const remake = tracks && JSON.parse(tracks).remake;
  if (player && remake) player.replaceRemake(remake.url, remake);
  drawProgress(byId("gap-progress"), gap);
  drawAll();
  showSteps(gap);
  if (gap.sha !== before) {
    panel?.look();
    own?.look();
  }
  const job = /** @type {HTMLElement | null} */ (document.querySelector("#gap-notice .job"));
  if (job) ended(await follow(dataOf(job, "job"), job));
}

/** @param {{ state: string, message: string }} job */
function ended({ state, message }) {
  if (state === "done") renew();
  else byId("gap-notice").textContent = message;
}
byId("work").addEventListener("job-ended", (event) => ended(/** @type {CustomEvent} */ (event).detail));

const listening = player ? listeningTools(byId("listening"), byId("blind"), player) : {};
document.addEventListener("keydown", (event) => {
  const act = listening[event.key.length === 1 ? event.key.toLowerCase() : event.key];
  if (act && isForPage(event)) act();
});

// After an edit the figures are those of another song: the section is measured at once, then the whole.
const send = edits({ url: dataOf(byId("moves"), "edit"), says: byId("gap-says"), revision: () => gap.revision, show: renew, refused: () => panel?.draw() });
const panel = gap.own && player ? new MovesPanel({
  list: byId("moves-list"), says: byId("moves-says"), progress: byId("moves-progress"), url: dataOf(byId("moves"), "url"), place: gap.own.place,
  bars: [gap.own.first, gap.own.last], listen: () => gap.listen, player, send,
}) : null;
const ownHost = document.getElementById("own");
own = ownHost && player ? new OwnPanel({
  host: byId("own-facets"), says: byId("own-says"), url: dataOf(ownHost, "url"), bars: () => Math.max(gap.reference.bars, gap.remake.bars),
  names: () => gap.names, listen: () => gap.listen, player, send,
}) : null;
own?.look();
if (panel) panel.look();
else byId("moves-says").textContent = "the song has no such section";
showSteps(gap);
