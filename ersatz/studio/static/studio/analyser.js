// @ts-check
// The whole mix on the frequency axis over the reference; as an analyser, opened, any strips over it: third octaves or fine, on a slope, with
// held peaks, and which two parts are loudest in each octave.

import { button, menu, node } from "./dom.js";
import { FREQUENCIES, el, fresh, label, minus, ownCurve, path, refCurve, svgOf, text } from "./draw.js";
import { tip } from "./tips.js";
import { LIMITS } from "./vocabulary.js";

/** @typedef {{ id: string, name: string, kind: string, mute: boolean }} Strip */
/** @typedef {{ hz: number[], level_db: number[], peak_db: number[] }} Fine */
/** @typedef {{ hz: number[], strips: Record<string, number[]>, peaks: Record<string, number[]>, reference: number[] | null }} Levels */

export const LOW = 20, HIGH = 20000;
/** @param {number} hz */
export const share = (hz) => Math.log(hz / LOW) / Math.log(HIGH / LOW);

const RANGE_DB = 54, CLOSED_PX = 96, OPEN_PX = 250, STEP_DB = 12;
/** Room of a difference that is written out. */
const SAID_PX = 54;
/** dB per octave that the picture is turned by: music falls by about as much as the steeper ones. */
const SLOPES = [["flat", 0], ["3 dB per octave", 3], ["4.5 dB per octave", 4.5]];
/** What the reference is asked for by; no strip's id. */
const REFERENCE = "reference";
/** Strips that are drawn over the mix are told apart by how their lines are broken. */
const DASHES = ["7 3", "2 3", "9 3 2 3", "4 2", "12 4", "1 2"];

/** The two loudest strips of each octave: [Hz of its middle, [name, dB] twice].
 *  @param {Levels} levels
 *  @param {Strip[]} strips
 *  @returns {[number, [string, number][]][]} */
export function loudestTwo({ hz, strips: levels }, strips) {
  const found = strips.filter((s) => levels[s.id] && !s.mute && (s.kind === "part" || s.kind === "return"));
  return FREQUENCIES.map(([middle]) => {
    const inside = hz.flatMap((f, i) => (Math.abs(Math.log2(f / middle)) <= 0.5 ? [i] : []));
    const power = (/** @type {number[]} */ row) => 10 * Math.log10(inside.reduce((sum, i) => sum + 10 ** (row[i] / 10), 1e-15));
    /** @type {[string, number][]} */
    const rows = found.map((s) => [s.name, power(levels[s.id])]);
    return [middle, rows.sort((a, b) => b[1] - a[1]).slice(0, 2)];
  });
}

export class Analyser {
  /** `strips()` as they stand, `levels()` of the section or null, `fine(id)` resolves to a strip's fine spectrum; `meter` and `hear`: the mix's figures, and what of
   *  it is heard.
   *  @param {{ strips: () => Strip[], levels: () => Levels | null, fine: (id: string) => Promise<Fine | null>, meter: HTMLElement, hear: HTMLElement, called: (strip: Strip) => string }} options */
  constructor({ strips, levels, fine, meter, hear, called }) {
    this.meter = meter;
    this.strips = strips;
    this.levels = levels;
    this.fine = fine;
    this.called = called;
    this.isOpen = false;
    this.isFine = false;
    this.hasPeaks = false;
    this.slope = 0;
    this.namesLoudest = false;
    /** @type {string[]} */
    this.over = [];
    /** Fine spectra of what is measured now. @type {Map<string, Fine | null>} */
    this.spectra = new Map();
    this.svg = svgOf("lane-sum");
    this.svg.setAttribute("role", "img");
    this.said = node("small", "soft");
    this.opener = button("Analyser", () => {
      this.isOpen = !this.isOpen;
      this.drawTools();
      this.draw();
    });
    this.loud = button("Loudest two", () => {
      this.namesLoudest = !this.namesLoudest;
      this.drawTools();
      this.draw();
    });
    tip(this.loud, "Names the two loudest parts of each octave");
    this.tools = node("div", "analyser-tools");
    this.names = node("div", "loudest");
    this.row = node("div", "lane sum");
    const head = node("div", "lane-head"), line = node("div", "lane-line"), picture = node("div");
    line.append(node("b", "", "Whole mix"), this.opener, this.loud);
    head.append(line, this.said, hear, meter);
    picture.append(this.tools, this.svg, this.names);
    this.row.append(head, picture);
    this.drawTools();
  }

  /** What was measured is another's now. */
  forget() {
    this.spectra.clear();
  }

  drawTools() {
    this.opener.setAttribute("aria-pressed", String(this.isOpen));
    this.loud.setAttribute("aria-pressed", String(this.namesLoudest));
    this.row.classList.toggle("open", this.isOpen);
    this.tools.hidden = !this.isOpen;
    this.names.hidden = !this.namesLoudest;
    if (!this.isOpen) return;
    const toggle = (/** @type {string} */ name, /** @type {boolean} */ on, /** @type {() => void} */ act) => {
      const one = button(name, () => { act(); this.drawTools(); this.draw(); });
      one.setAttribute("aria-pressed", String(on));
      return one;
    };
    const shown = this.strips().filter((s) => s.id !== "master");
    const overlay = menu(this.over.length ? `Strips: ${this.over.length}` : "Strips", shown.map((s) => [`${this.over.includes(s.id) ? "✓ " : ""}${this.called(s)}`, () => {
      this.over = this.over.includes(s.id) ? this.over.filter((id) => id !== s.id) : [...this.over, s.id].slice(-DASHES.length);
      this.drawTools();
      this.draw();
    }]), { name: "overlay" });
    this.tools.replaceChildren(
      overlay, toggle("Third octaves", !this.isFine, () => { this.isFine = false; }), toggle("Fine", this.isFine, () => { this.isFine = true; }),
      toggle("Held peaks", this.hasPeaks, () => { this.hasPeaks = !this.hasPeaks; }),
      menu(`Slope: ${SLOPES.find(([, db]) => db === this.slope)?.[0]}`, SLOPES.map(([name, db]) => [String(name), () => { this.slope = Number(db); this.drawTools(); this.draw(); }]), { name: "slope" }),
    );
  }

  /** A strip's levels, fine where they are wanted and there.
   *  @param {Levels} levels
   *  @param {string} id
   *  @returns {{ hz: number[], level: number[], peak: number[] | undefined } | null} */
  #of(levels, id) {
    if (this.isOpen && this.isFine) {
      if (!this.spectra.has(id)) {
        this.spectra.set(id, null);
        this.fine(id).then((found) => {
          if (!found) return;
          this.spectra.set(id, found);
          this.draw();
        });
      }
      const found = this.spectra.get(id);
      if (found) return { hz: found.hz, level: found.level_db, peak: found.peak_db };
    }
    return levels.strips[id] ? { hz: levels.hz, level: levels.strips[id], peak: levels.peaks[id] } : null;
  }

  draw() {
    const levels = this.levels(), { width, height } = fresh(this.svg, this.isOpen ? OPEN_PX : CLOSED_PX), bottom = height - 1;
    for (const [hz] of FREQUENCIES) this.svg.append(el("line", { class: "grid", x1: share(hz) * width, x2: share(hz) * width, y1: 0, y2: bottom }));
    if (!levels) {
      this.svg.append(text(6, 20, "measuring …", { class: "s" }));
      return;
    }
    const mix = this.#of(levels, "master"), theirs = levels.reference ? this.#of(levels, REFERENCE) ?? { hz: levels.hz, level: levels.reference } : null;
    if (!mix) return;
    const turned = (/** @type {number} */ db, /** @type {number} */ hz) => db + (this.isOpen ? this.slope * Math.log2(hz / 1000) : 0);
    const drawn = [mix, ...(this.isOpen ? this.over.map((id) => this.#of(levels, id)) : [])];
    const highest = drawn.flatMap((row) => (row ? (this.hasPeaks && this.isOpen && row.peak ? row.peak : row.level).map((db, i) => turned(db, row.hz[i])) : []));
    const top = Math.max(...highest, ...(theirs ? theirs.level.map((db, i) => turned(db, theirs.hz[i])) : [])) + 2;
    const y = (/** @type {number} */ db) => 3 + (Math.min(RANGE_DB, top - db) / RANGE_DB) * (bottom - 3);
    const points = (/** @type {number[]} */ row, /** @type {number[]} */ hz) => row.map((db, i) => [share(hz[i]) * width, y(turned(db, hz[i]))]);
    if (this.isOpen) for (let db = Math.floor(top / STEP_DB) * STEP_DB; db > top - RANGE_DB; db -= STEP_DB) this.svg.append(el("line", { class: "grid", x1: 0, x2: width, y1: y(db), y2: y(db) }));
    if (theirs) this.svg.append(...refCurve(points(theirs.level, theirs.hz), bottom));
    if (this.isOpen && this.hasPeaks && mix.peak) this.svg.append(el("path", { class: "heldline", d: path(points(mix.peak, mix.hz)) }));
    this.svg.append(ownCurve(points(mix.level, mix.hz)));
    if (this.isOpen) {
      const overlays = this.over.map((id, k) => this.#overlay(id, drawn[k + 1], DASHES[k], points, width));
      this.svg.append(...overlays.map(([line]) => line), ...overlays.flatMap(([, ...said]) => said));
      for (let db = Math.floor(top / STEP_DB) * STEP_DB; db > top - RANGE_DB + 2; db -= STEP_DB) this.svg.append(...label(2, Math.max(12, y(db) + 4), `${minus(db)} dB`, { class: "s" }));
    }
    this.#differences(levels, (i) => points(levels.strips.master, levels.hz)[i], width, !this.isOpen || !this.over.length);
    if (this.namesLoudest) this.#nameLoudest(levels);
  }

  /** @param {string} id
   *  @param {{ hz: number[], level: number[] } | null} row
   *  @param {string} dash
   *  @param {(row: number[], hz: number[]) => number[][]} points
   *  @param {number} width
   *  @returns {Element[]} */
  #overlay(id, row, dash, points, width) {
    const strip = this.strips().find((s) => s.id === id);
    if (!row || !strip) return [];
    const line = points(row.level, row.hz), [x, y] = line.reduce((best, p) => (p[1] < best[1] ? p : best));
    return [el("path", { class: "overline", "stroke-dasharray": dash, d: path(line) }), ...label(Math.max(3, Math.min(width - 90, x - 14)), Math.max(13, y - 5), this.called(strip))];
  }

  /** Bands that are far off say so, the farthest first, as far as there is room; the mean stands beside the name.
   *  @param {Levels} levels
   *  @param {(i: number) => number[]} at
   *  @param {number} width
   *  @param {boolean} isWritten */
  #differences({ hz, strips: { master }, reference }, at, width, isWritten) {
    /** @type {[number, number, number][]} */
    const off = reference ? master.map((db, i) => /** @type {[number, number, number]} */ ([db - reference[i], hz[i], i])).filter(([, f]) => f >= LIMITS.balanceHz[0] && f <= LIMITS.balanceHz[1]) : [];
    /** @type {number[]} */
    const written = [];
    for (const [d, , i] of off.toSorted((a, b) => Math.abs(b[0]) - Math.abs(a[0])).slice(0, 3)) {
      const [x, y] = at(i);
      if (!isWritten || Math.abs(d) < LIMITS.regionDb || written.some((other) => Math.abs(other - x) < SAID_PX)) continue;
      written.push(x);
      const said = `${d > 0 ? "+" : ""}${minus(d.toFixed(1))} dB`;
      this.svg.append(...label(Math.min(width - 52, x + 4), Math.max(13, d > 0 ? y - 5 : y + 16), said, { "font-weight": 600 }));
    }
    const mean = off.length ? off.reduce((sum, [d]) => sum + Math.abs(d), 0) / off.length : null;
    this.svg.setAttribute("aria-label", mean === null ? "The mix" : `The mix is ${mean.toFixed(1)} dB from the reference in the mean`);
    this.said.textContent = mean === null ? "no such section in the reference" : `${mean.toFixed(1)} dB from the reference in the mean`;
  }

  /** @param {Levels} levels */
  #nameLoudest(levels) {
    this.names.replaceChildren(...loudestTwo(levels, this.strips()).map(([hz, rows]) => {
      const box = node("span");
      box.style.left = `${100 * share(hz)}%`;
      tip(box, `${hz >= 1000 ? `${hz / 1000} kHz` : `${hz} Hz`}: ${rows.map(([name, db]) => `${name} ${minus(db.toFixed(1))} dB`).join(", ")}`);
      box.append(...rows.map(([name], k) => node(k ? "span" : "b", "", name)));
      return box;
    }));
  }
}
