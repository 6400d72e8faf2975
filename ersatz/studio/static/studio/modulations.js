// @ts-check
// What moves the values of a sound: rows of source, target and amount.

import { button, node, selectBox } from "./dom.js";
import { choiceField, numberField } from "./fields.js";

/** @typedef {import("./states").SoundState} SoundState */
/** @typedef {import("./states").Modulation} Modulation */

/** How a target's unit is written.
 *  @type {Record<string, string>} */
const UNITS = { octaves: "oct", semitones: "st" };
const MOST = 48;

/** Fills `box`; `put(make)` takes the list made from the one that stands when its turn comes.
 *  @param {HTMLElement} box
 *  @param {SoundState} sound
 *  @param {(make: (list: Modulation[]) => Modulation[]) => void} put */
export function modulationRows(box, { sources, targets, modulations }, put) {
  const rows = modulations.map((m, i) => {
    const row = node("div", "mod"), unit = UNITS[targets.find(([name]) => name === m.target)?.[2] ?? ""] ?? "";
    const change = (/** @type {Partial<Modulation>} */ part) => put((list) => list.map((old, k) => (k === i ? { ...old, ...part } : old)));
    row.append(
      choiceField({ name: `mod${i}s`, title: "Source", options: sources, value: m.source }, (source) => change({ source })),
      targetField(targets, m.target, (target) => change({ target })),
      numberField({ name: `mod${i}a`, title: "Amount", unit, low: -MOST, high: MOST, value: m.amount, scale: "linear", step: 0 }, (amount) => change({ amount })),
      button("Delete", () => put((list) => list.filter((_, k) => k !== i)), "btn btn-link"),
    );
    return row;
  });
  box.replaceChildren(...rows, button("Add a modulation", () => put((list) => [...list, { source: sources[0], target: targets[0][0], amount: 1 }])));
}

/** @param {SoundState["targets"]} targets
 *  @param {string} chosen
 *  @param {(target: string) => void} set */
function targetField(targets, chosen, set) {
  const row = node("label", "field choice-field wide"), select = selectBox();
  select.dataset.name = `target-${chosen}`;
  for (const [id, title] of targets) select.add(new Option(title, id, false, id === chosen));
  select.addEventListener("change", () => set(select.value));
  row.append(node("span", "", "Target"), select);
  return row;
}
