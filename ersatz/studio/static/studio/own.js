// @ts-check
// Your own: how much of the reference the song takes over, where both are alike on the bar axis, and what could be played in its place.

import { button, node } from "./dom.js";
import { BarAxis, el, fresh } from "./draw.js";
import { hearWith } from "./hearing.js";
import { finished } from "./http.js";

/** @typedef {import("./states").Facet} Facet */
/** @typedef {import("./states").Passage} Passage */
/** @typedef {import("./states").Take} Take */

/** Height of a track's row in a facet's picture, px. */
const ROW = 11;
/** Stretches that are put into words. */
const MOST_SAID = 3;
const WORDS = { taken: "taken over", own: "your own" };

/** Bars in words: "bar 5", "bars 5–8".
 *  @param {number} first
 *  @param {number} bars */
const barsSaid = (first, bars) => (bars > 1 ? `bars ${first}–${first + bars - 1}` : `bar ${first}`);

/** Passages one behind the other, of the song and of the reference alike, as one.
 *  @param {Passage[]} passages
 *  @returns {{ bar: number, bars: number, at: number, semitones: number }[]} */
export function stretches(passages) {
  /** @type {{ bar: number, bars: number, at: number, semitones: number }[]} */
  const out = [];
  for (const { bar, bars, reference_bars: places, semitones } of passages) {
    const last = out.at(-1), goesOn = last && last.bar + last.bars === bar && last.semitones === semitones;
    if (goesOn && places.includes(last.at + last.bars)) last.bars += bars;
    else if (places.length) out.push({ bar, bars, at: places.includes(bar) ? bar : places[0], semitones });
  }
  return out;
}

/** Where both are alike, in words.
 *  @param {Facet} facet */
export function placesSaid({ passages }) {
  const found = stretches(passages);
  const said = found.slice(0, MOST_SAID).map(({ bar, bars, at, semitones }) => {
    const key = semitones ? `, there ${Math.abs(semitones)} semitone${Math.abs(semitones) > 1 ? "s" : ""} ${semitones > 0 ? "higher" : "lower"}` : "";
    return `${barsSaid(bar, bars)} as the reference’s ${barsSaid(at, bars)}${key}`;
  });
  const more = found.length - said.length;
  return said.join("; ") + (more > 0 ? ` and ${more} more` : "");
}

export class OwnPanel {
  /** `bars`: of the longer of the two; `names`: of the parts by id.
   *  @param {{ host: HTMLElement, says: HTMLElement, url: string, bars: () => number, names: () => Record<string, string>, listen: () => string,
   *    player: import("./player.js").Player, send: (edit: object) => Promise<void> }} options */
  constructor({ host, says, url, bars, names, listen, player, send }) {
    this.host = host;
    this.says = says;
    this.url = url;
    this.bars = bars;
    this.names = names;
    this.listen = listen;
    this.player = player;
    this.send = send;
    /** @type {import("./states").JobState | null} */
    this.found = null;
    /** What is heard: "PART.PATTERN.TAKE".
     *  @type {string | null} */
    this.heard = null;
    /** Facets whose takes are open. */
    this.open = new Set();
    this.asked = 0;
  }

  /** Measures the song as it stands. */
  async look() {
    const mine = ++this.asked, job = await finished(this.url, {}, "Your own", this.says, () => mine === this.asked);
    if (!job) return;
    this.says.textContent = job.state === "done" ? "" : job.message;
    this.found = job;
    this.heard = null;
    this.draw();
  }

  draw() {
    const own = this.found?.own;
    if (!own) return;
    this.host.replaceChildren(...own.facets.map((f) => this.#facet(f)), this.#cuts(own.cuts));
    for (const facet of own.facets) this.#picture(facet);
  }

  /** @param {Facet} facet */
  #facet(facet) {
    const row = node("div", "own-facet"), head = node("h3", "", facet.name), { share } = facet;
    row.dataset.facet = facet.name;
    const figure = node("b", facet.passages.length ? "taken" : "", share === null ? "–" : share.toFixed(2));
    const said = share === null ? facet.said : !facet.passages.length ? WORDS.own : [WORDS.taken, placesSaid(facet), facet.said].filter(Boolean).join(": ");
    row.append(head, figure);
    if (facet.passages.length) row.append(el("svg", { role: "img", "aria-label": `${facet.name}: ${said}` }));
    row.append(node("p", "soft", said));
    const varied = this.found?.varied.filter((v) => v.facet === facet.name) ?? [];
    if (varied.length) row.append(this.#takes(facet, varied));
    return row;
  }

  /** @param {Facet} facet
   *  @param {import("./states").Varied[]} varied */
  #takes(facet, varied) {
    const details = node("details"), list = node("ul", "own-takes");
    details.open = this.open.has(facet.name);
    details.addEventListener("toggle", () => this.open[details.open ? "add" : "delete"](facet.name));
    for (const { part, pattern, takes } of varied) {
      const passage = facet.passages.find((p) => p.part === part);
      takes.forEach((take, k) => list.append(this.#take(facet, passage, take, `${this.names()[part] ?? part}, ${pattern}`, `${part}.${pattern}.${k}`)));
    }
    details.append(node("summary", "", "Vary this"), list);
    return details;
  }

  /** @param {Facet} facet
   *  @param {Passage | undefined} passage
   *  @param {Take} take
   *  @param {string} where
   *  @param {string} id */
  #take(facet, passage, { said, edit, share }, where, id) {
    const item = node("li"), name = `${where}: ${said}`;
    const hear = button("Hear", async () => {
      if (!passage || this.player.isHidden) return;
      this.heard = id;
      this.draw();
      await hearWith(this.player, [passage.bar, passage.bar + passage.bars - 1], this.listen(), { edit }, () => this.heard === id);
    });
    hear.setAttribute("aria-pressed", String(this.heard === id));
    const apply = button("Apply", () => this.send(edit));
    for (const [one, word] of /** @type {[HTMLElement, string][]} */ ([[hear, "Hear"], [apply, "Apply"]])) one.setAttribute("aria-label", `${word}: ${name}`);
    item.append(node("span", "", name), node("span", "soft", `${facet.name.toLowerCase()} ${(facet.share ?? 0).toFixed(2)} → ${share.toFixed(2)}`), hear, apply);
    return item;
  }

  /** @param {[string, number][]} cuts */
  #cuts(cuts) {
    const row = node("div", "own-facet");
    row.append(node("h3", "", "Samples"), node("b", cuts.length ? "taken" : "", String(cuts.length)));
    const at = (/** @type {number} */ s) => `${Math.floor(s / 60)}:${(s % 60).toFixed(1).padStart(4, "0")}`;
    row.append(node("p", "soft", cuts.length ? cuts.map(([part, s]) => `${this.names()[part] ?? part} is cut from the reference at ${at(s)}`).join("; ") : "none is cut from the reference"));
    return row;
  }

  /** @param {Facet} facet */
  #picture(facet) {
    const svg = /** @type {SVGSVGElement | null} */ (this.host.querySelector(`[data-facet="${facet.name}"] svg`));
    if (!svg) return;
    const { width } = fresh(svg, 2 * ROW + 4), axis = new BarAxis(1, width - 1, this.bars());
    for (const y of [ROW, 2 * ROW + 3]) svg.append(el("line", { class: "grid", x1: 0, x2: width, y1: y, y2: y }));
    const box = (/** @type {string} */ ink, /** @type {number} */ bar, /** @type {number} */ bars, /** @type {number} */ y) =>
      el("rect", { class: ink, x: axis.x(bar), y, width: Math.max(2, axis.x(bar + bars) - axis.x(bar) - 1), height: ROW - 1 });
    for (const { bar, bars, at } of stretches(facet.passages)) svg.append(box("refbox", at, bars, 0.5), box("ownbox", bar, bars, ROW + 3));
  }
}
