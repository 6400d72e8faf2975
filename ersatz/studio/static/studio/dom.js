// @ts-check
// HTML elements as the pages use them: Bootstrap's forms, buttons and menus in our own theme.

/** What the page always has, by id.
 *  @param {string} id */
export const byId = (id) => /** @type {HTMLElement} */ (document.getElementById(id));
export const inputById = (/** @type {string} */ id) => /** @type {HTMLInputElement} */ (document.getElementById(id));
export const buttonById = (/** @type {string} */ id) => /** @type {HTMLButtonElement} */ (document.getElementById(id));
export const selectById = (/** @type {string} */ id) => /** @type {HTMLSelectElement} */ (document.getElementById(id));
export const svgById = (/** @type {string} */ id) => /** @type {SVGSVGElement} */ (/** @type {unknown} */ (document.getElementById(id)));

/** A value that a page's element carries; every page that has the element has it.
 *  @param {HTMLElement} element
 *  @param {string} name */
export const dataOf = (element, name) => element.dataset[name] ?? "";

/** What a page is told by its own elements' addresses and what it has: the element with a label, wherever it stands.
 *  @param {string} label
 *  @param {string} inside  A selector. */
export const labelled = (label, inside = "") => /** @type {HTMLElement | undefined} */ ([...document.querySelectorAll(`${inside} [aria-label]`)].find((n) => n.getAttribute("aria-label") === label));

/** @template {keyof HTMLElementTagNameMap} T
 *  @param {T} tag */
export function node(tag, className = "", text = "") {
  const made = document.createElement(tag);
  if (className) made.className = className;
  if (text !== "") made.textContent = text;
  return made;
}

/** What a label says already, for eyes only.
 *  @param {string} className
 *  @param {string} text
 *  @param {keyof HTMLElementTagNameMap} tag */
export function mark(className, text, tag = "span") {
  const made = node(tag, className, text);
  made.setAttribute("aria-hidden", "true");
  return made;
}

export const selectBox = () => node("select", "form-select");
export const inputBox = () => node("input", "form-control");

/** @param {string} label
 *  @param {(event: MouseEvent) => void} act */
export function button(label, act, kind = "btn btn-tool") {
  const made = node("button", kind, label);
  made.type = "button";
  made.addEventListener("click", act);
  return made;
}

/** A row of a menu: its title, and what it does; null where that isn't possible now.
 *  @typedef {[title: string, act: (() => void) | null]} Row */

/** @param {string} title
 *  @param {(() => void) | null} act
 *  @returns {Row} */
export const row = (title, act) => [title, act];

/** A menu that opens under a button: rows of [label, act], or a string as a heading. `act` null: not possible now.
 *  @param {string} label
 *  @param {(string | Row)[]} rows */
export function menu(label, rows, { name = "", className = "btn btn-tool" } = {}) {
  const box = node("span", "dropdown"), list = node("ul", "dropdown-menu");
  const opener = node("button", `${className} dropdown-toggle`, label);
  opener.type = "button";
  opener.dataset.bsToggle = "dropdown";
  opener.setAttribute("aria-expanded", "false");
  if (name) opener.dataset.name = name;
  for (const each of rows) {
    const item = node("li");
    if (typeof each === "string") item.append(node("h6", "dropdown-header", each));
    else {
      const [title, act] = each, one = button(title, () => {
        // What it does may take the menu off the page, where nobody else closes it.
        bootstrap.Dropdown.getInstance(opener)?.hide();
        act?.();
      }, "dropdown-item");
      one.disabled = !act;
      item.append(one);
    }
    list.append(item);
  }
  box.append(opener, list);
  return box;
}
