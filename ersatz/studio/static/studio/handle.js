// @ts-check
// What is taken hold of: dragged, stepped with the arrow keys, put back with Escape. A grip is any such thing, a slider one along an axis.

import { drag } from "./drag.js";

/** Directions of the keys: right and up are 1; the page keys go four steps.
 *  @type {Record<string, [x: number, y: number]>} */
const WAYS = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1], PageUp: [-4, 0], PageDown: [4, 0] };

/** Lets an element be taken hold of: `move(event)` follows the pointer, `done()` where it is let go, `giveUp()` where it isn't; `step(x, y, event)` goes a
 *  key's way and says whether it did; `remove()`: it can be taken out.
 *  @template {HTMLElement | SVGElement} E
 *  @param {E} element
 *  @param {{ name: string, move: (event: PointerEvent) => void, done: () => void, giveUp: () => void, step: (x: number, y: number, event: KeyboardEvent) => boolean,
 *    remove?: () => void }} options */
export function grip(element, { name, move, done, giveUp, step, remove }) {
  element.setAttribute("tabindex", "0");
  element.setAttribute("role", "slider");
  element.setAttribute("aria-label", name);
  const listening = /** @type {HTMLElement} */ (element);
  listening.addEventListener("pointerdown", (event) => {
    event.stopPropagation();
    drag(event, element, { move, done: (kept) => (kept ? done() : giveUp()) });
  });
  // Or a finger's drag becomes the page's scrolling: `touch-action` isn't heeded on shapes inside of a picture.
  listening.addEventListener("touchstart", (event) => event.preventDefault(), { passive: false });
  listening.addEventListener("keydown", (event) => {
    const way = WAYS[event.key], isGone = remove && (event.key === "Delete" || event.key === "Backspace");
    if (isGone) remove();
    else if (!way || !step(way[0], way[1], event)) return;
    event.preventDefault();
    event.stopPropagation();
  });
  return element;
}

/** Makes a slider of `handle`, set by Enter where it was stepped. `show(value)` draws it at a value and gives its words; `at(event)` is the value under a
 *  pointer.
 *  @template {HTMLElement | SVGElement} E
 *  @param {E} handle
 *  @param {{ name: string, value: number, least: number, most: number, step?: number, show: (value: number) => string, at: (event: PointerEvent) => number }} options
 *  @param {(value: number) => void} done */
export function slider(handle, { name, value: start, least, most, step = 1, show, at }, done) {
  let value = start;
  const to = (/** @type {number} */ wanted) => {
    value = Math.max(least, Math.min(most, Math.round(wanted / step) * step));
    handle.setAttribute("aria-valuenow", String(value));
    handle.setAttribute("aria-valuetext", show(value));
    return true;
  };
  const settle = () => { if (value !== start) done(value); };
  handle.setAttribute("aria-valuemin", String(least));
  handle.setAttribute("aria-valuemax", String(most));
  grip(handle, { name, move: (event) => to(at(event)), done: settle, giveUp: () => to(start), step: (x) => x !== 0 && to(value + x * step) });
  /** @type {HTMLElement} */ (handle).addEventListener("keydown", (event) => {
    if (event.key === "Enter") settle();
    else if (event.key === "Escape") to(start);
  });
  to(start);
  return handle;
}
