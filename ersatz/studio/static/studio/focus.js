// @ts-check
// What had the focus has it again when a page is drawn anew.

import { labelled } from "./dom.js";

/** What things carry that are known by more than their label: data-cell, data-transition ... */
const KNOWN_BY = ["cell", "transition", "own", "note", "lane", "name", "tool", "handle"];
const FOCUSABLE = "a[href], button, input, select, summary, [tabindex]";

/** Call before drawing; what it returns, behind it. What is still in the page keeps the focus by itself; what is drawn anew gets it by what it
 *  is known by, by its label, or by its place in the box around it, as a label may say something else by then. `inside`: a selector. */
export function keptFocus(inside = "main") {
  const active = document.activeElement;
  if (!(active instanceof HTMLElement || active instanceof SVGElement) || active === document.body) return () => {};
  const key = KNOWN_BY.find((name) => active.dataset[name]), label = active.getAttribute("aria-label");
  const box = active.parentElement?.closest("[id]"), place = box ? focusable(box).indexOf(active) : -1;
  return () => {
    if (active.isConnected) return;
    const again = key ? document.querySelector(`[data-${key}="${CSS.escape(active.dataset[key] ?? "")}"]`) : label ? labelled(label, inside) : null;
    const found = /** @type {HTMLElement | null | undefined} */ (again ?? (box?.isConnected ? focusable(box)[place] : null));
    found?.focus({ preventScroll: true });
  };
}

/** @param {Element} box
 *  @returns {Element[]} */
function focusable(box) {
  return [...box.querySelectorAll(FOCUSABLE)];
}
