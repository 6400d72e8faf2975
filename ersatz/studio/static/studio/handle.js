// @ts-check
// A place on an axis that is dragged, or stepped by the arrow keys and set by Enter; Escape puts it back.

import { drag } from "./drag.js";

/** Makes a slider of `handle`. `show(value)` draws it at a value and gives its words; `at(event)` is the value under a pointer.
 *  @template {HTMLElement | SVGElement} E
 *  @param {E} handle
 *  @param {{ name: string, value: number, least: number, most: number, step?: number, show: (value: number) => string, at: (event: PointerEvent) => number }} options
 *  @param {(value: number) => void} done */
export function slider(handle, { name, value: start, least, most, step = 1, show, at }, done) {
  let value = start;
  handle.setAttribute("tabindex", "0");
  handle.setAttribute("role", "slider");
  handle.setAttribute("aria-label", name);
  handle.setAttribute("aria-valuemin", String(least));
  handle.setAttribute("aria-valuemax", String(most));
  const to = (/** @type {number} */ wanted) => {
    value = Math.max(least, Math.min(most, Math.round(wanted / step) * step));
    handle.setAttribute("aria-valuenow", String(value));
    handle.setAttribute("aria-valuetext", show(value));
  };
  const settle = () => { if (value !== start) done(value); };
  /** @type {HTMLElement} */ (handle).addEventListener("pointerdown", (event) => {
    event.stopPropagation();
    drag(event, handle, { move: (e) => to(at(e)), done: (kept) => { if (kept) settle(); else to(start); } });
  });
  /** @type {HTMLElement} */ (handle).addEventListener("keydown", (event) => {
    const by = { ArrowLeft: -step, ArrowRight: step, PageUp: -4 * step, PageDown: 4 * step }[event.key];
    if (by) {
      event.preventDefault();
      event.stopPropagation();
      to(value + by);
    } else if (event.key === "Enter") settle();
    else if (event.key === "Escape") to(start);
  });
  to(start);
  return handle;
}
