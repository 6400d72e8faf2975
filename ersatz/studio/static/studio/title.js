// @ts-check
// Editing a title where it stands: Enter or leaving keeps it, Escape doesn't.

import { inputBox } from "./dom.js";

/** @typedef {(title: string) => void} Keep */

/** Put an input with `old` into `place`; `keep(title)` is called once if another title was entered. With a `label` of its own `old` is a
 *  proposal, which is kept too.
 *  @param {Element} place
 *  @param {string} old
 *  @param {Keep} keep */
export function editTitle(place, old, keep, label = "") {
  const before = [...place.childNodes];
  const input = inputBox();
  Object.assign(input, { value: old, maxLength: 120 });
  input.setAttribute("aria-label", label || "Title");
  input.dataset.editing = "";
  place.replaceChildren(input);
  input.focus();
  input.select();
  let settled = false;
  const settle = (/** @type {boolean} */ wanted) => {
    if (settled) return;
    settled = true;
    place.replaceChildren(...before);
    const title = input.value.trim();
    if (wanted && title && (label || title !== old)) keep(title);
  };
  input.addEventListener("keydown", (event) => {
    if (event.key === "Enter") settle(true);
    if (event.key === "Escape") settle(false);
  });
  // Left, a proposal that nobody took isn't kept.
  input.addEventListener("blur", () => settle(!label));
}
