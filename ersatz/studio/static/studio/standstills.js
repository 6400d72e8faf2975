// @ts-check
// Where the song brings nothing new for too long, and changes that can be heard before they are applied.

import { button, node } from "./dom.js";
import { keptFocus } from "./focus.js";
import { variantUrl } from "./variant.js";

/** @type {string | null} */
let trying = null;

/** `still`: what the server found; `ask` takes an offer.
 *  @param {HTMLElement} box
 *  @param {{ still: { said: string, first: number, last: number, offers: string[] }[], song: { listen: string }, player: import("./player.js").Player, ask: (wanted: object) => void }} options */
export function standstillTools(box, { still, song, player, ask }) {
  trying = null;
  const summary = /** @type {HTMLElement} */ (box.querySelector("summary")), list = /** @type {HTMLElement} */ (box.querySelector("div"));
  summary.textContent = still.length ? `Nothing new: ${still.length} ${still.length === 1 ? "place" : "places"}` : "Something new at least every 8 bars";
  const draw = () => {
    const focused = keptFocus();
    list.replaceChildren(...still.map(section));
    focused();
  };
  const section = (/** @type {typeof still[number]} */ found, /** @type {number} */ i) => {
    const one = node("section", "found");
    one.append(node("b", "", found.said));
    const go = button(`Go to bar ${found.first}`, () => player.seek(found.first - 1), "btn btn-link");
    one.append(go);
    found.offers.forEach((said, k) => {
      const row = node("p", "offer"), key = `${i}.${k}`, wanted = { kind: "vary", standstill: i, offer: k };
      const hear = button(trying === key ? "Before" : "After", () => {
        trying = trying === key ? null : key;
        player.replaceRemake(trying ? variantUrl(song.listen, { ask: wanted }) : song.listen);
        if (trying && (player.position() < found.first - 1 || player.position() >= found.last)) player.seek(Math.max(found.first - 1, found.last - 8));
        if (trying && !player.isPlaying) player.play();
        draw();
      });
      hear.setAttribute("aria-pressed", String(trying === key));
      hear.setAttribute("aria-label", `${trying === key ? "Play before" : "Play after"}: ${said}`);
      const take = button("Apply", () => ask(wanted));
      take.setAttribute("aria-label", `Apply: ${said}`);
      row.append(hear, take, node("span", "", said));
      one.append(row);
    });
    return one;
  };
  draw();
}
