// @ts-check
// The survey: evidence under each figure, the score of the track, details of the picked section, corrections.

import { asked, remember } from "./address.js";
import { drawDetails } from "./details.js";
import { buttonById, byId, dataOf, inputById, labelled, selectById, svgById as svg } from "./dom.js";
import { BarAxis, el, boundaryHandle, fresh, playhead, readJson, redrawn, sectionNames, sectionRow, text } from "./draw.js";
import { hearPump, loudnessEvidence, pumpEvidence, tempoEvidence } from "./evidence.js";
import { pagePlayer } from "./frame.js";
import { follow, post, progressElement } from "./http.js";
import { fieldOf, isForPage } from "./keys.js";
import { changeMarks, energyRows, eventMarks, keyBars, presenceRows, pumpRow, sure } from "./pictures.js";

/** A section as a correction sends it.
 *  @typedef {{ label: string, start_bar: number, bars: number }} Edited */

/** @type {import("./states").SurveyDrawing & import("./states").SurveyCorrected} */
let survey = readJson("drawing");
const player = pagePlayer(), says = byId("survey-says");
const track = () => /** @type {import("./track.js").Track} */ (player.tracks.reference);
let picked = Math.min(survey.sections.length - 1, Math.max(0, Number(asked.get("section") ?? survey.main)));

function score() {
  const host = byId("score"), node = host.querySelector("svg") ?? host.appendChild(el("svg", { role: "group", "aria-label": "Sections, energy and presence over bars" }));
  const height = 336;
  const { width } = fresh(node, height);
  const axis = new BarAxis(98, width - 2, survey.bars);
  node.append(...axis.ticks(0));
  const sections = survey.sections.map((s) => [s.label, s.start_bar, s.bars]);
  node.append(...sectionRow(axis, sections, 17, 26, "ref", pick));
  node.append(...energyRows(axis, survey.energy, 50), ...presenceRows(axis, survey.presence, 152, survey.roleConfidence[picked]), ...pumpRow(axis, survey.sections, survey.pump, 152));
  if (survey.measured) node.append(...measuredSections(axis, survey.measured));
  node.append(...eventMarks(axis, survey.events, survey.tempo.beats_per_bar), ...changeMarks(axis, survey.changes, 56, height - 3));
  node.append(text(0, height - 5, "changes", { class: "s" }));
  const s = survey.sections[picked];
  node.append(el("rect", { class: "frame", x: axis.x(s.start_bar) - 1, y: 14, width: axis.x(s.start_bar + s.bars) - axis.x(s.start_bar) + 2, height: height - 17 }));
  playhead(node, axis, 0, height, player, [0, 16]);
  survey.sections.slice(1).forEach((_, i) => node.append(boundary(node, axis, i + 1)));
}

/** Where the measurement has its boundaries, as dashed lines under the corrected sections.
 *  @param {BarAxis} axis
 *  @param {import("./states").MeasuredBeside} measured */
function measuredSections(axis, measured) {
  return measured.sections.slice(1).map(([label, start]) => {
    const line = el("line", { class: "measured", x1: axis.x(start), x2: axis.x(start), y1: 38, y2: 50 });
    line.append(el("title", {}, `measured: ${label} from bar ${Math.round(start)}`));
    return line;
  });
}

/** The boundary of two sections, which can be taken to another bar.
 *  @param {SVGSVGElement} node
 *  @param {BarAxis} axis
 *  @param {number} index */
function boundary(node, axis, index) {
  const section = survey.sections[index];
  const limits = { bar: section.start_bar, least: survey.sections[index - 1].start_bar + 1, most: section.start_bar + section.bars - 1 };
  return boundaryHandle(node, axis, { ...limits, top: 14, bottom: 46, name: `Start of ${section.label}, bar` }, (bar) => {
    const sections = edited();
    sections[index - 1].bars += bar - section.start_bar;
    sections[index].bars -= bar - section.start_bar;
    sections[index].start_bar = bar;
    correctSections(sections);
  });
}

/** @param {number} index */
function pick(index) {
  picked = index;
  remember({ section: index });
  const focus = document.activeElement?.getAttribute("aria-label");
  player.seek(survey.sections[index].start_bar - 1);
  score();
  details();
  if (focus) labelled(focus, "#score")?.focus();
}

function details() {
  const names = sectionNames(survey.sections.map((s) => [s.label]));
  const s = survey.sections[picked];
  byId("detail-name").textContent = `${names[picked]}, bars ${s.start_bar}–${s.start_bar + s.bars - 1}`;
  byId("detail-sure").textContent = survey.corrected ? "set by hand" : sure(s.confidence);
  byId("tool-name").textContent = names[picked];
  selectById("section-label").value = s.label;
  buttonById("section-merge").disabled = picked === survey.sections.length - 1;
  buttonById("section-split").disabled = s.bars < 2;
  drawDetails(survey, picked);
}

let corrected = 0;

/** A correction: the grid moves at once, the rest follows when it is measured. Only the last one asked for is shown.
 *  @param {Record<string, string | undefined>} fields */
async function correct(fields) {
  const mine = ++corrected;
  says.textContent = "";
  const { ok, data } = await post(dataOf(/** @type {HTMLElement} */ (document.querySelector(".tools")), "correct"), fields);
  if (!ok) {
    says.textContent = data.error;
    return;
  }
  player.replaceReference(data.reference);
  const place = byId("measuring"), progress = progressElement("Survey", "The grid has moved; listen, or correct on: the figures follow.");
  if (mine === corrected) place.replaceChildren(progress);
  const job = await follow(data.job.url, progress);
  if (mine !== corrected) return;
  place.replaceChildren();
  if (job.state === "done") await refresh(() => mine === corrected);
  else says.textContent = job.message;
}

/** What the server has measured takes the place of what was there: figures, curves, the player's bars. What is typed stays.
 *  @param {() => boolean} isWanted */
async function refresh(isWanted) {
  const answer = await fetch(location.pathname).catch(() => null);
  if (!answer?.ok || !isWanted()) return;
  const fresher = new DOMParser().parseFromString(await answer.text(), "text/html");
  const typed = [.../** @type {NodeListOf<HTMLInputElement>} */ (document.querySelectorAll("[data-live] input"))].filter((input) => input.value !== input.defaultValue).map((input) => [input.id, input.value]);
  const focused = document.activeElement?.id || document.activeElement?.getAttribute("aria-label");
  for (const part of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-live]"))) part.replaceWith(fresher.querySelector(`[data-live="${part.dataset.live}"]`) ?? "");
  for (const [id, value] of typed) if (document.getElementById(id)) inputById(id).value = value;
  const bar = survey.sections[picked].start_bar, count = survey.sections.length;
  const read = (/** @type {string} */ id) => JSON.parse(fresher.getElementById(id)?.textContent ?? "null");
  survey = read("drawing");
  // The section that was chosen, or the one that lies there now.
  if (survey.sections.length !== count) picked = Math.max(0, survey.sections.findLastIndex((s) => s.start_bar <= bar));
  player.replaceReference(read("player-data").reference);
  drawAll();
  if (focused) (document.getElementById(focused) ?? labelled(focused))?.focus();
}

/** @returns {Edited[]} */
const edited = () => survey.sections.map(({ label: kind, start_bar, bars }) => ({ label: kind, start_bar, bars }));

/** @param {Edited[]} sections */
function correctSections(sections) {
  return correct({ what: "sections", sections: JSON.stringify(sections) });
}

const labelBox = selectById("section-label");
labelBox.addEventListener("change", () => {
  const sections = edited();
  sections[picked].label = labelBox.value;
  correctSections(sections);
});
byId("section-merge").addEventListener("click", () => {
  const sections = edited();
  sections[picked].bars += sections[picked + 1].bars;
  sections.splice(picked + 1, 1);
  correctSections(sections);
});
byId("section-split").addEventListener("click", () => {
  const sections = edited();
  const whole = sections[picked];
  const at = Math.round(player.position()) + 1;
  const inside = at > whole.start_bar && at < whole.start_bar + whole.bars;
  const bar = inside ? at : whole.start_bar + Math.floor(whole.bars / 2);
  const second = { label: whole.label, start_bar: bar, bars: whole.start_bar + whole.bars - bar };
  whole.bars = bar - whole.start_bar;
  sections.splice(picked + 1, 0, second);
  correctSections(sections);
});

// Listening aids.
const band = selectById("aid-band");
for (const name of /** @type {("click" | "drone")[]} */ (["click", "drone"])) {
  const toggle = byId(`aid-${name}`);
  toggle.addEventListener("click", () => {
    player.setAid({ [name]: !player.aids[name] });
    toggle.setAttribute("aria-pressed", String(player.aids[name]));
  });
}
band.addEventListener("change", () => player.setAid({ band: band.value }));
function barHere() {
  // The grid that is heard: the figures may still be those of the one before.
  const { beats, barS, firstS } = track();
  const beat = Math.round(player.position() * beats);
  const seconds = firstS + (beat / beats) * barS;
  correct({ what: "bar-one", seconds: seconds.toFixed(5) });
}

/** @param {HTMLElement} button */
function hearKick(button) {
  player.playOnce(dataOf(button, "url")).catch(() => {
    says.textContent = "The kick could not be cut out of this track.";
  });
}
document.getElementById("beside")?.addEventListener("change", () => {
  const { value } = selectById("beside");
  if (value) location.assign(value);
});

// Tapping: the median of the last gaps; taken over when nothing was tapped for a while.
/** @type {number[]} */
const taps = [];
/** @type {ReturnType<typeof setTimeout> | undefined} */
let tapEnd;
function tap() {
  const now = performance.now();
  if (taps.length && now - taps[taps.length - 1] > 2500) taps.length = 0;
  taps.push(now);
  const button = byId("tap");
  if (taps.length < 4) {
    button.textContent = `Tap ${4 - taps.length} more`;
  } else {
    const bpm = (60000 * (taps.length - 1)) / (taps[taps.length - 1] - taps[0]);
    button.textContent = bpm.toFixed(1);
    clearTimeout(tapEnd);
    tapEnd = setTimeout(() => correct({ what: "tapped", bpm: bpm.toFixed(2) }), 1800);
  }
}

document.addEventListener("keydown", (event) => {
  if (fieldOf(event.target) === "text" || event.altKey) return;
  const key = event.key.toLowerCase();
  if ((event.ctrlKey || event.metaKey) && key === "z") {
    event.preventDefault();
    /** @type {HTMLElement | null} */ (document.querySelector("button[data-what=back]"))?.click();
    return;
  }
  if (!isForPage(event)) return;
  if (key === "t") tap();
  if (key === "c") byId("aid-click").click();
  if (key === "d") byId("aid-drone").click();
  if (key === "b") {
    const order = ["", "low", "mid", "high"];
    band.value = order[(order.indexOf(band.value) + 1) % order.length];
    player.setAid({ band: band.value });
  }
});

// The figures come anew with every correction: what is pressed there is heard here.
/** @type {Record<string, (button: HTMLElement) => void>} */
const PRESSED = { tap, "bar-here": barHere, "hear-kick": hearKick, "pump-hear": async () => hearPump(survey, await player.open()) };
byId("work").addEventListener("click", (event) => {
  const button = /** @type {Element} */ (event.target).closest("button");
  if (button?.dataset.what && button.closest("[data-correct]")) correct({ ...button.dataset });
  else if (button) PRESSED[button.id]?.(button);
});
byId("work").addEventListener("submit", (event) => {
  const form = /** @type {HTMLFormElement} */ (event.target), { what } = form.dataset;
  if (!what) return;
  event.preventDefault();
  const fields = Object.fromEntries([...new FormData(form)].map(([name, value]) => [name, String(value)]));
  // Set: it is no longer what was only typed.
  for (const input of form.querySelectorAll("input")) input.defaultValue = input.value;
  correct({ what, ...fields });
});

function drawAll() {
  tempoEvidence(svg("tempo-evidence"), survey);
  keyBars(svg("key-evidence"), survey.key);
  loudnessEvidence(svg("loudness-evidence"), survey, track());
  pumpEvidence(svg("pump-evidence"), survey);
  score();
  details();
}

redrawn(drawAll);
