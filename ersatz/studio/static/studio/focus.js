// @ts-check
// What had the focus has it again when a page is drawn anew.

import { labelled } from "./dom.js";

/** What things carry that are known by more than their label: data-cell, data-transition ... */
const KNOWN_BY = ["cell", "transition", "own", "note", "lane", "name", "tool"];

/** Call before drawing; what it returns, behind it. What is still in the page keeps the focus by itself. `inside`: a selector. */
export function keptFocus(inside = "main") {
  const active = document.activeElement;
  if (!(active instanceof HTMLElement || active instanceof SVGElement)) return () => {};
  const key = KNOWN_BY.find((name) => active.dataset[name]), label = active.getAttribute("aria-label");
  return () => {
    if (active.isConnected) return;
    const again = key ? document.querySelector(`[data-${key}="${CSS.escape(active.dataset[key] ?? "")}"]`) : label ? labelled(label, inside) : null;
    /** @type {HTMLElement | null | undefined} */ (again)?.focus({ preventScroll: true });
  };
}
