// @ts-check
// One value with its unit: type it, step it with the arrow keys, or drag its name sideways.

import { inputBox, node, selectBox } from "./dom.js";
import { drag } from "./drag.js";
import { tip } from "./tips.js";

/** One value of a strip, a sound, an effect: its range, how it steps, and its unit.
 *  @typedef {Omit<import("./states").Figure, "moves">} Figure */
/** @typedef {Pick<Figure, "low" | "high" | "unit" | "title"> & { step?: number }} Bounds */
/** A choice to make: of words, or of values with their titles.
 *  @typedef {{ name: string, title: string, options: (string | [value: string, title: string])[], value: string | undefined }} Choice */
/** @typedef {{ value: number, sentence?: undefined } | { value?: undefined, sentence: string }} Read */

const span = (/** @type {Figure} */ f) => (f.scale === "log" ? Math.log(f.high / f.low) : f.high - f.low);
const fit = (/** @type {Figure} */ f, /** @type {number} */ value) => {
  const held = Math.min(f.high, Math.max(f.low, value));
  return f.step ? Math.round(held / f.step) * f.step : held;
};
/** `share` of the whole range further, on the value's own scale. */
const moved = (/** @type {Figure} */ f, /** @type {number} */ value, /** @type {number} */ share) => fit(f, f.scale === "log" ? Math.max(f.low, value) * Math.exp(share * span(f)) : value + share * span(f));
export const shown = (/** @type {number} */ value) => String(Math.abs(value) >= 1000 ? Math.round(value) : Number(value.toPrecision(3))).replace("-", "−");

const range = (/** @type {Bounds} */ f) => `${f.title || "The value"} is ${f.step === 1 ? "a whole number from " : ""}${shown(f.low)} to ${shown(f.high)}${f.unit ? ` ${f.unit}` : ""}.`;

/** Ways that the arrow keys step a figure.
 *  @type {Record<string, number>} */
const STEPS = { ArrowUp: 1, ArrowDown: -1 };

/** What was typed for the figure `f`: { value } or { sentence } that says why not. A unit behind the number is allowed.
 *  @param {Bounds} f
 *  @param {string} typed
 *  @returns {Read} */
export function readFigure(f, typed) {
  const said = typed.trim(), found = /^([+-]?(?:\d+(?:\.\d*)?|\.\d+))\s*([^\d\s.,+-][^\d]*)?$/.exec(said.replace("−", "-").replace(",", "."));
  if (!found) return { sentence: `“${said}” is no number: ${range(f)}` };
  // 1.2k is twelve hundred where the unit is hertz.
  const value = Number(found[1]) * (f.unit === "Hz" && /^k/i.test(found[2] ?? "") ? 1000 : 1);
  if (value < f.low || value > f.high || (f.step === 1 && !Number.isInteger(value))) return { sentence: `“${said}” doesn’t fit: ${range(f)}` };
  return { value };
}

/** Tells the page what was typed and can't be taken. */
export const refuse = (/** @type {HTMLElement} */ input, /** @type {string} */ sentence) => input.dispatchEvent(new CustomEvent("refused", { bubbles: true, detail: sentence }));

/** `set(value)` when a value stands, `preview(value)` while it is dragged.
 *  @param {Figure} f
 *  @param {(value: number) => void} set
 *  @param {(value: number) => void} preview */
export function numberField(f, set, preview = () => {}) {
  const row = node("label");
  row.className = "field";
  const name = node("span");
  name.textContent = f.title;
  tip(name, `Drag sideways; ${shown(f.low)} to ${shown(f.high)} ${f.unit}`.trim());
  const input = inputBox();
  Object.assign(input, { type: "text", inputMode: "decimal", value: shown(f.value) });
  input.dataset.name = f.name;
  const unit = node("i");
  unit.textContent = f.unit;
  let value = f.value;
  const put = (/** @type {number} */ next, /** @type {boolean} */ keep) => {
    value = fit(f, next);
    input.value = shown(value);
    if (keep) set(value);
    else preview(value);
  };
  input.addEventListener("change", () => {
    const read = input.value.trim() === "" ? { sentence: "" } : readFigure(f, input.value);
    refuse(input, read.sentence ?? "");
    if (read.value === undefined) input.value = shown(value);
    else put(read.value, true);
  });
  input.addEventListener("keydown", (event) => {
    const way = STEPS[event.key];
    if (!way) return;
    event.preventDefault();
    const share = f.step ? (way * f.step) / (f.high - f.low) : way * (event.shiftKey ? 0.1 : 0.01);
    put(moved(f, value, share), true);
  });
  name.addEventListener("pointerdown", (event) => {
    const start = [event.clientX, value];
    drag(event, name, {
      move: (e) => put(moved(f, start[1], (e.clientX - start[0]) / 260), false),
      done: (kept) => {
        if (!kept) put(start[1], false);
        else if (value !== start[1]) set(value);
        else input.focus();
      },
    });
  });
  row.append(name, input, unit);
  return row;
}

/** A figure on a linear scale.
 *  @param {string} title
 *  @param {string} name
 *  @param {string} unit
 *  @param {number} low
 *  @param {number} high
 *  @param {number} value
 *  @param {number} step
 *  @param {(value: number) => void} set */
export const plainField = (title, name, unit, low, high, value, step, set) => numberField({ name, title, unit, low, high, value, scale: "linear", step }, set);

/** A figure that the arrow keys step by `by`.
 *  @param {HTMLInputElement} input
 *  @param {number} by */
export function stepped(input, by) {
  input.addEventListener("keydown", (event) => {
    const way = STEPS[event.key];
    if (!way) return;
    event.preventDefault();
    input.value = String(Number((Number(input.value) + way * by).toFixed(2)));
    input.dispatchEvent(new Event("change", { bubbles: true }));
  });
}

/** @param {Choice} c
 *  @param {(option: string) => void} set */
export function choiceField(c, set) {
  const row = node("label");
  row.className = "field choice-field";
  const name = node("span");
  name.textContent = c.title;
  const select = selectBox();
  select.dataset.name = c.name;
  for (const option of c.options) {
    const [value, title] = typeof option === "string" ? [option, option] : option;
    select.add(new Option(title, value, false, value === c.value));
  }
  select.addEventListener("change", () => set(select.value));
  row.append(name, select);
  return row;
}
