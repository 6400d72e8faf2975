// @ts-check
// Where strips get into each other's way: ranked, framed on the lanes, each with a cure that is heard before and after at equal loudness.

import { button, node } from "./dom.js";
import { tip } from "./tips.js";
import { louderDb, variantUrl } from "./variant.js";

/** @typedef {{ sentence: string, cure: string, strips: string[], low_hz: number, high_hz: number, edit: object | null }} Clash */

export class ClashPanel {
  /** `url()`: where the clashes of the section are; `frame(clash)` shows one on the lanes; `send(edit)` cures; `hear(url, louderDb)` plays, null as it is.
   *  @param {{ list: Element, says: Element, url: () => string, listen: () => string, bars: () => number[], frame: (clash: Clash | null) => void, send: (edit: object) => void, hear: (url: string | null, louderDb: number) => void }} options */
  constructor({ list, says, url, listen, bars, frame, send, hear }) {
    this.list = list;
    this.says = says;
    this.url = url;
    this.listen = listen;
    this.bars = bars;
    this.frame = frame;
    this.send = send;
    this.hear = hear;
    /** @type {Clash[]} */
    this.clashes = [];
    /** @type {number | null} */
    this.shown = null;
    /** @type {string | null} */
    this.heard = null;
    this.asked = 0;
  }

  /** Looks again, as the song now stands. */
  async look() {
    const mine = ++this.asked;
    this.says.textContent = "looking …";
    this.heard = null;
    const answer = await fetch(this.url()).catch(() => null);
    if (mine !== this.asked) return;
    this.clashes = answer?.ok ? (await answer.json()).clashes : [];
    this.says.textContent = !answer?.ok ? "could not be looked for" : this.clashes.length ? `${this.clashes.length} in this section` : "none in this section";
    this.shown = null;
    this.draw();
  }

  draw() {
    this.frame(this.shown === null ? null : this.clashes[this.shown] ?? null);
    this.list.replaceChildren(...this.clashes.map((clash, i) => {
      const item = node("li"), said = button(clash.sentence, () => { this.shown = this.shown === i ? null : i; this.draw(); }, "clash-said"), tools = node("div", "device-tools");
      said.setAttribute("aria-pressed", String(this.shown === i));
      tip(said, "Show it on the lanes");
      item.append(said, node("p", "soft", `Cure: ${clash.cure}`));
      const { edit } = clash;
      if (edit) {
        const before = button("Before", () => this.#hear(i, false)), after = button("After", () => this.#hear(i, true)), apply = button("Apply", () => this.send(edit), "btn btn-primary");
        before.setAttribute("aria-pressed", String(this.heard === `${i}.before`));
        after.setAttribute("aria-pressed", String(this.heard === `${i}.after`));
        for (const [one, word] of /** @type {[HTMLElement, string][]} */ ([[before, "Play before"], [after, "Play after"], [apply, "Apply"]])) one.setAttribute("aria-label", `${word}: ${clash.cure}`);
        tools.append(before, after, apply);
      }
      item.append(tools);
      return item;
    }));
  }

  /** Both at the loudness of the song as it is: neither wins by being louder.
   *  @param {number} i
   *  @param {boolean} isAfter */
  async #hear(i, isAfter) {
    this.heard = `${i}.${isAfter ? "after" : "before"}`;
    this.shown = i;
    this.draw();
    if (!isAfter) return this.hear(null, 0);
    const url = variantUrl(this.listen(), { edit: this.clashes[i].edit }), wanted = this.heard, louder = await louderDb(url, this.bars());
    if (this.heard === wanted) this.hear(url, louder);
    return null;
  }
}
