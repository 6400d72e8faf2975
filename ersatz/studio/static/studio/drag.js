// @ts-check
// One way of dragging for all that is dragged: the pointer is held until it is let go, taken away by the system, or Escape gives up.

/** Follows the pointer that went down with `event`, held by `element`: `move(event)` as it moves, then `done(kept)` once, false where it was
 *  given up. Until then the element carries `data-held`: one that is taken out of the page meanwhile gets no more moves.
 *  @param {PointerEvent} event
 *  @param {Element} element
 *  @param {{ move: (event: PointerEvent) => void, done: (kept: boolean) => void }} options */
export function drag(event, element, { move, done }) {
  event.preventDefault();
  element.setPointerCapture(event.pointerId);
  element.toggleAttribute("data-held", true);
  const stop = new AbortController(), { signal } = stop;
  const end = (/** @type {boolean} */ kept) => {
    stop.abort();
    element.toggleAttribute("data-held", false);
    if (element.hasPointerCapture(event.pointerId)) element.releasePointerCapture(event.pointerId);
    done(kept);
  };
  const mine = (/** @type {(e: PointerEvent) => void} */ act) => (/** @type {Event} */ e) => {
    if (/** @type {PointerEvent} */ (e).pointerId === event.pointerId) act(/** @type {PointerEvent} */ (e));
  };
  element.addEventListener("pointermove", mine(move), { signal });
  element.addEventListener("pointerup", mine(() => end(true)), { signal });
  element.addEventListener("pointercancel", mine(() => end(false)), { signal });
  window.addEventListener("keydown", (e) => {
    if (e.key !== "Escape") return;
    e.preventDefault();
    e.stopPropagation();
    end(false);
  }, { signal, capture: true });
}
