// Editing a title where it stands: Enter or leaving keeps it, Escape doesn't.

import { inputBox } from "./dom.js";

/** Put an input with `old` into `place`; `keep(title)` is called once if another title was entered. */
export function editTitle(place, old, keep) {
  const before = [...place.childNodes];
  const input = inputBox();
  Object.assign(input, { value: old, maxLength: 120 });
  input.setAttribute("aria-label", "Title");
  place.replaceChildren(input);
  input.focus();
  input.select();
  let settled = false;
  const settle = (wanted) => {
    if (settled) return;
    settled = true;
    place.replaceChildren(...before);
    const title = input.value.trim();
    if (wanted && title && title !== old) keep(title);
  };
  input.addEventListener("keydown", (event) => {
    if (event.key === "Enter") settle(true);
    if (event.key === "Escape") settle(false);
  });
  input.addEventListener("blur", () => settle(true));
}
