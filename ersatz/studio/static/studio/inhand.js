// @ts-check
// What is being dragged stays in the hand, and a menu open: an answer that arrives meanwhile is drawn when it is let go or closed.

/** `draw`, put off while a pointer is down in `host` or a menu of the page is open.
 *  @param {HTMLElement} host
 *  @param {() => void} draw */
export function whenFree(host, draw) {
  let inHand = false, later = false;
  /** @type {ReturnType<typeof setTimeout> | undefined} */
  let letGo;
  const free = () => {
    later = inHand || document.querySelector(".dropdown-menu.show") !== null;
    if (!later) draw();
  };
  host.addEventListener("pointerdown", () => {
    clearTimeout(letGo);
    inHand = true;
  }, true);
  // Behind those who handle the letting go themselves.
  for (const name of ["pointerup", "pointercancel"]) window.addEventListener(name, () => {
    clearTimeout(letGo);
    letGo = setTimeout(() => {
      inHand = false;
      if (later) free();
    });
  });
  document.addEventListener("hidden.bs.dropdown", () => {
    if (later) free();
  });
  return free;
}
