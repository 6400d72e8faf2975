// @ts-check
// Two references on one page: both section rows on one bar axis, spectra, ducking curves and widths over each other.

import { byId, svgById as svg } from "./dom.js";
import { BarAxis, el, frequencyAxis, fresh, path, readJson, redrawn, refCurve, sectionRow, text } from "./draw.js";

/** @typedef {import("./states").SurveyDrawing} Survey */

const { a, b } = /** @type {import("./states").TwoSurveys} */ (readJson("drawing"));
const dashed = (/** @type {import("./draw.js").Point[]} */ points) => el("path", { class: "refline", fill: "none", "stroke-dasharray": "6 4", d: path(points) });

function score() {
  const host = byId("beside-score");
  const node = host.querySelector("svg") ?? host.appendChild(el("svg", { role: "img", "aria-label": "Sections and energy of both over bars" }));
  const height = 150;
  const { width } = fresh(node, height);
  const axis = new BarAxis(28, width - 2, Math.max(a.bars, b.bars));
  node.append(...axis.ticks(0));
  /** @type {[Survey, number, string][]} */ ([[a, 18, "A"], [b, 84, "B"]]).forEach(([survey, top, name]) => {
    node.append(text(4, top + 18, name));
    node.append(...sectionRow(axis, survey.sections.map((s) => [s.label, s.start_bar, s.bars]), top, 24, "ref"));
    const loudest = Math.max(...survey.energy.full_db);
    const points = survey.energy.full_db.flatMap((v, i) => {
      const y = top + 62 - Math.max(0, 1 - (loudest - v) / 24) * 32;
      return [[axis.x(i + 1), y], [axis.x(i + 2), y]];
    });
    node.append(...refCurve(points, top + 62));
  });
}

function spectrum() {
  const node = svg("beside-spectrum");
  const { width, height } = fresh(node);
  const { x, grid } = frequencyAxis(0, width, 25, 20000, 0, height - 16);
  const main = (/** @type {Survey} */ survey) => survey.spectrum.per_section[survey.main].level_db;
  const top = Math.max(...main(a), ...main(b));
  const points = (/** @type {Survey} */ survey) => survey.spectrum.centers_hz.map((hz, i) => [x(hz), 4 + Math.min(1, (top - main(survey)[i]) / 48) * (height - 24)]).filter(([at]) => at >= 0);
  node.append(...grid, ...refCurve(points(a), height - 16), dashed(points(b)));
}

function pump() {
  const node = svg("beside-pump");
  const { width, height } = fresh(node);
  const deepest = Math.max(6, a.pump.depth_db, b.pump.depth_db);
  const points = (/** @type {Survey} */ survey) => survey.pumpBeatDb.map((v, i) => [(i / 63) * width, 3 + (-v / deepest) * (height - 8)]);
  node.append(...refCurve(points(a), height), dashed(points(b)));
}

function widths() {
  const node = svg("beside-width");
  const { width, height } = fresh(node);
  const lane = (height - 4) / a.stereo.bands.length;
  const hz = (/** @type {number} */ v) => (v >= 1000 ? `${v / 1000}k` : v);
  a.stereo.bands.forEach((band, i) => {
    const y = height - 2 - (i + 1) * lane;
    node.append(text(0, y + lane / 2 + 4, `${hz(band.low_hz)}–${hz(band.high_hz)}`, { class: "s" }));
    node.append(el("rect", { class: "refbox", x: 78, y: y + 2, width: Math.max(1, (width - 120) * band.width), height: lane / 2 - 2 }));
    const other = b.stereo.bands[i].width;
    node.append(el("rect", { class: "refline", fill: "none", "stroke-dasharray": "4 3", x: 78, y: y + lane / 2 + 1, width: Math.max(1, (width - 120) * other), height: lane / 2 - 3 }));
    node.append(text(width - 70, y + lane / 2 + 4, `${band.width.toFixed(2)}  ${other.toFixed(2)}`, { class: "s" }));
  });
}

redrawn(() => {
  score();
  spectrum();
  pump();
  widths();
});
