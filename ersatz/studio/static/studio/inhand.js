// @ts-check
// What is being dragged stays in the hand, a menu open, and what is being typed in its field: an answer that arrives meanwhile is drawn when it is let
// go, closed or entered.

import { fieldOf } from "./keys.js";

/** `draw`, put off while a pointer is down in `host`, something is being typed there, or a menu of the page is open.
 *  @param {HTMLElement} host
 *  @param {() => void} draw */
export function whenFree(host, draw) {
  let inHand = false, later = false;
  /** @type {EventTarget | null} */
  let typedIn = null;
  /** @type {ReturnType<typeof setTimeout> | undefined} */
  let letGo;
  const isTyping = () => (typedIn !== null && typedIn === document.activeElement) || host.querySelector("[data-editing]") !== null;
  const free = () => {
    later = inHand || isTyping() || document.querySelector(".dropdown-menu.show") !== null;
    if (!later) draw();
  };
  // Behind those who handle it themselves.
  const afterwards = () => setTimeout(() => { if (later) free(); });
  host.addEventListener("pointerdown", () => {
    clearTimeout(letGo);
    inHand = true;
  }, true);
  for (const name of ["pointerup", "pointercancel"]) window.addEventListener(name, () => {
    clearTimeout(letGo);
    letGo = setTimeout(() => {
      inHand = false;
      if (later) free();
    });
  });
  host.addEventListener("input", ({ target }) => { if (["text", "figure"].includes(fieldOf(target))) typedIn = target; });
  const entered = () => {
    typedIn = null;
    afterwards();
  };
  for (const name of ["change", "focusout"]) host.addEventListener(name, entered);
  host.addEventListener("keydown", ({ key }) => { if (key === "Enter" || key === "Escape") entered(); });
  document.addEventListener("hidden.bs.dropdown", afterwards);
  return free;
}
