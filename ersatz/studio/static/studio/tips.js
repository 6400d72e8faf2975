// @ts-check
// Tips: what a thing does, shown beside it when the pointer rests on it or the keyboard reaches it. Things carry their tip as `data-tip`, so that
// it can change while it is looked at; names that are cut off show themselves whole. One tip is open at a time.

const REST_MS = 450;

/** Gives an element its tip; "" takes it away.
 *  @template {HTMLElement} E
 *  @param {E} element
 *  @param {string} said */
export function tip(element, said) {
  if (said) element.dataset.tip = said;
  else delete element.dataset.tip;
  return element;
}

/** What an element's tip says: its name first where that is cut off.
 *  @param {HTMLElement} element */
export function tipOf(element) {
  const said = element.dataset.tip ?? "", name = element.textContent?.trim() ?? "";
  return isCut(element) && !said.includes(name) ? [name, said].filter(Boolean).join(". ") : said;
}

/** @param {Element} element */
function isCut(element) {
  return element.scrollWidth > element.clientWidth && getComputedStyle(element).textOverflow === "ellipsis";
}

/** Lets the page show the tips of all that is in it and comes into it. */
export function showTips() {
  /** @type {{ element: HTMLElement, panel: BootstrapComponent } | null} */
  let open = null;
  /** @type {ReturnType<typeof setTimeout> | undefined} */
  let waiting;
  const gone = new MutationObserver(() => { if (open && !open.element.isConnected) hide(); });
  const hide = () => {
    clearTimeout(waiting);
    open?.panel.dispose();
    open = null;
    gone.disconnect();
  };
  const show = (/** @type {HTMLElement} */ element) => {
    hide();
    const said = tipOf(element);
    if (!said || !element.isConnected) return;
    const panel = new bootstrap.Tooltip(element, { title: said, trigger: "manual", animation: false, placement: "bottom", fallbackPlacements: ["top", "right", "left"] });
    open = { element, panel };
    panel.show();
    gone.observe(document.body, { childList: true, subtree: true });
  };
  const over = (/** @type {Event} */ { target }) => {
    if (!(target instanceof Element)) return null;
    return target instanceof HTMLElement && isCut(target) ? target : /** @type {HTMLElement | null} */ (target.closest("[data-tip]"));
  };
  document.addEventListener("pointerover", (event) => {
    const element = over(event);
    if (element === open?.element) return;
    hide();
    if (element && event.pointerType === "mouse" && !event.buttons) waiting = setTimeout(() => show(element), REST_MS);
  });
  document.addEventListener("focusin", (event) => {
    const element = over(event);
    if (element && element === event.target && element.matches(":focus-visible")) show(element);
  });
  document.addEventListener("focusout", hide);
  // What is pressed, scrolled away or drawn anew says no more what it does.
  for (const name of ["pointerdown", "keydown", "scroll", "wheel"]) window.addEventListener(name, hide, { capture: true, passive: true });
}
