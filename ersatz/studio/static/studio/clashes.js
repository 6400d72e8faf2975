// @ts-check
// Where strips get into each other's way: ranked, framed on the lanes, each with a cure that is heard before and after at equal loudness.

import { button, node } from "./dom.js";
import { keptFocus } from "./focus.js";
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
    /** @type {Clash | null} */
    this.shown = null;
    /** Whose cure is heard, or the song without it.
     *  @type {{ clash: Clash, isAfter: boolean } | null} */
    this.heard = null;
    this.asked = 0;
  }

  /** The song has changed: what is listed is of before, until it has been looked at again. */
  changed() {
    this.asked += 1;
    this.heard = null;
    this.says.textContent = "looking …";
    this.draw();
  }

  /** Looks again, as the song now stands. What is shown or heard of it stays so, where it is still there. */
  async look() {
    const mine = ++this.asked;
    this.says.textContent = "looking …";
    const answer = await fetch(this.url()).catch(() => null);
    if (mine !== this.asked) return;
    this.clashes = answer?.ok ? (await answer.json()).clashes : [];
    this.says.textContent = !answer?.ok ? "could not be looked for" : this.clashes.length ? `${this.clashes.length} in this section` : "none in this section";
    const again = (/** @type {Clash | undefined} */ old) => this.clashes.find((c) => c.sentence === old?.sentence && c.cure === old.cure) ?? null;
    this.shown = again(this.shown ?? undefined);
    const clash = again(this.heard?.clash);
    this.heard = clash && this.heard ? { ...this.heard, clash } : null;
    this.draw();
  }

  draw() {
    const focused = keptFocus();
    this.frame(this.shown);
    this.list.replaceChildren(...this.clashes.map((clash) => {
      const item = node("li"), said = button(clash.sentence, () => { this.shown = this.shown === clash ? null : clash; this.draw(); }, "clash-said"), tools = node("div", "device-tools");
      said.setAttribute("aria-pressed", String(this.shown === clash));
      tip(said, "Show it on the lanes");
      item.append(said, node("p", "soft", `Cure: ${clash.cure}`));
      const { edit } = clash;
      if (edit) {
        const before = button("Before", () => this.#hear(clash, false)), after = button("After", () => this.#hear(clash, true)), apply = button("Apply", () => this.send(edit), "btn btn-primary");
        const isHeard = (/** @type {boolean} */ isAfter) => String(this.heard?.clash === clash && this.heard.isAfter === isAfter);
        before.setAttribute("aria-pressed", isHeard(false));
        after.setAttribute("aria-pressed", isHeard(true));
        for (const [one, word] of /** @type {[HTMLElement, string][]} */ ([[before, "Play before"], [after, "Play after"], [apply, "Apply"]])) one.setAttribute("aria-label", `${word}: ${clash.cure}`);
        tools.append(before, after, apply);
      }
      item.append(tools);
      return item;
    }));
    focused();
  }

  /** Both at the loudness of the song as it is: neither wins by being louder.
   *  @param {Clash} clash
   *  @param {boolean} isAfter */
  async #hear(clash, isAfter) {
    this.heard = { clash, isAfter };
    this.shown = clash;
    this.draw();
    if (!isAfter) return this.hear(null, 0);
    const url = variantUrl(this.listen(), { edit: clash.edit }), louder = await louderDb(url, this.bars());
    // Nothing else is heard by now, and the song is the one that it was.
    if (this.heard?.isAfter && this.heard.clash.cure === clash.cure) this.hear(url, louder);
    return null;
  }
}
