// @ts-check
// What is done with a whole chain of effects: saved under a name, loaded, copied to other strips, heard all off at the same loudness.

import { button, menu, row } from "./dom.js";
import { tip } from "./tips.js";
import { editTitle } from "./title.js";

/** @typedef {import("./states").StripState} Strip */
/** @typedef {import("./states").ChainChoice} SavedChain */

/** Fills `box` with the tools of the chain of `strip`. `others`: strips it can be copied to; `isOff`: whether it is heard all off now.
 *  @param {HTMLElement} box
 *  @param {{ strip: Strip, others: [string, string][], chains: SavedChain[], isOff: boolean, canBeOff: boolean, save: (name: string) => void, load: (chain: SavedChain) => void, copyTo: (id: string) => void, off: () => void }} options */
export function chainTools(box, { strip, others, chains, isOff, canBeOff, save, load, copyTo, off }) {
  const has = strip.effects.length > 0;
  const everything = button("Everything off", off);
  everything.setAttribute("aria-pressed", String(isOff));
  everything.disabled = !canBeOff;
  tip(everything, "Hear the strip without its effects, at the same loudness; nothing is changed");
  const rows = [
    row("Save as …", has ? () => editTitle(box, `${strip.name} chain`, save, "Name of the chain") : null),
    ...(chains.length ? ["Load behind what is there", ...chains.map((c) => row(c.name, () => load(c)))] : []),
    "Copy behind the effects of", ...others.map(([id, name]) => row(name, has ? () => copyTo(id) : null)),
  ];
  box.replaceChildren(everything, menu("Chain", rows, { name: "chain-menu" }));
}
