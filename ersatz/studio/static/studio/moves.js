// @ts-check
// The next moves: found and rendered by the server, each heard before and after at equal loudness, taken in one step, or set aside.

import { button, node } from "./dom.js";
import { minus } from "./draw.js";
import { hearWith } from "./hearing.js";
import { finished } from "./http.js";

/** @typedef {import("./states").Move} Move */

/** What a move does to the balance of the other sections is said from here on, in tolerances. */
const WORTH_SAYING = 0.1;
/** A reading of the reference that is less sure than this is said to be. */
const SURE = 0.75;
/** Figures of a move that are named. */
const MOST_NAMED = 3;

/** A figure with its unit, as it is written.
 *  @param {number} value
 *  @param {string} unit */
function figure(value, unit) {
  const digits = unit === "ms" ? 0 : unit === "" ? 2 : 1;
  return minus(value.toFixed(digits));
}

/** What a move does to the figures that it moves most: as they stand, as they become, and what the model said where that is another.
 *  @param {Move} move */
export function effectsSaid({ effects, reasons }) {
  const tolerance = new Map(reasons.map((r) => [r.figure, r.tolerance]));
  const size = (/** @type {Move["effects"][number]} */ e) => Math.abs(e.measured - e.before) / (tolerance.get(e.figure) ?? 3);
  return [...effects].sort((a, b) => size(b) - size(a)).slice(0, MOST_NAMED).map((e) => {
    const before = figure(e.before, e.unit), after = figure(e.measured, e.unit), guess = e.predicted === null ? after : figure(e.predicted, e.unit);
    return `${e.figure} ${before} → ${after}${e.unit && ` ${e.unit}`}${guess === after ? "" : ` (predicted ${guess})`}`;
  });
}

export class MovesPanel {
  /** `place`: of the section in the plan; `listen()` is the song's address, `bars`: first and last of those that are compared; `send` takes edits.
   *  @param {{ list: HTMLElement, says: HTMLElement, progress: HTMLElement, url: string, place: number, bars: [number, number], listen: () => string,
   *    player: import("./player.js").Player, send: (edit: object) => Promise<void> }} options */
  constructor({ list, says, progress, url, place, bars, listen, player, send }) {
    this.list = list;
    this.says = says;
    this.progress = progress;
    this.url = url;
    this.place = place;
    this.bars = bars;
    this.listen = listen;
    this.player = player;
    this.send = send;
    /** @type {Move[]} */
    this.moves = [];
    /** Ids of those that were set aside.
     *  @type {Set<string>} */
    this.aside = new Set();
    /** What is heard: "ID.before" or "ID.after".
     *  @type {string | null} */
    this.heard = null;
    this.asked = 0;
  }

  /** Looks for them, as the song now stands. */
  async look() {
    const mine = ++this.asked;
    this.says.textContent = "";
    this.moves = [];
    this.heard = null;
    this.draw();
    const job = await finished(this.url, { section: this.place }, "Moves", this.progress, () => mine === this.asked);
    if (!job) return;
    this.moves = job.moves ?? [];
    this.says.textContent = job.state !== "done" ? job.message : this.moves.length ? "" : "none that would bring it nearer";
    this.draw();
  }

  draw() {
    this.list.replaceChildren(...this.moves.filter((m) => !this.aside.has(m.id)).map((move) => this.#item(move)));
  }

  /** @param {Move} move */
  #item(move) {
    const item = node("li"), said = node("b", "", move.sentence), tools = node("div", "device-tools");
    const edit = this.#edit(move);
    const hear = (/** @type {string} */ title, /** @type {boolean} */ isAfter) => {
      const one = button(title, () => this.#hear(move, isAfter));
      one.setAttribute("aria-pressed", String(this.heard === `${move.id}.${isAfter ? "after" : "before"}`));
      one.setAttribute("aria-label", `${title}: play ${isAfter ? "with" : "without"} “${move.sentence}”`);
      return one;
    };
    const apply = button("Apply", () => this.send(edit), "btn btn-primary"), aside = button("Set aside", () => {
      this.aside.add(move.id);
      this.draw();
    }, "btn btn-link");
    for (const [one, word] of /** @type {[HTMLElement, string][]} */ ([[apply, "Apply"], [aside, "Set aside"]])) one.setAttribute("aria-label", `${word}: ${move.sentence}`);
    tools.append(hear("Before", false), hear("After", true), apply, aside);
    const elsewhere = Math.abs(move.elsewhere) < WORTH_SAYING ? [] : [`other sections ${move.elsewhere > 0 ? "further off" : "nearer"} by ${Math.abs(move.elsewhere).toFixed(1)} tolerances`];
    const unsure = move.sure < SURE ? [`rests on a reading that is ${Math.round(100 * move.sure)} % sure`] : [];
    item.append(said, node("p", "soft", [...effectsSaid(move), ...elsewhere, ...unsure].join(" · ")), tools);
    return item;
  }

  /** All of it as one step.
   *  @param {Move} move */
  #edit({ edits, sentence }) {
    return edits.length === 1 ? edits[0] : { kind: "several", said: sentence, edits };
  }

  /** @param {Move} move
   *  @param {boolean} isAfter */
  async #hear(move, isAfter) {
    if (this.player.isHidden) return;
    const wanted = `${move.id}.${isAfter ? "after" : "before"}`;
    this.heard = wanted;
    this.draw();
    await hearWith(this.player, this.bars, this.listen(), isAfter ? { edit: this.#edit(move) } : null, () => this.heard === wanted);
  }
}
