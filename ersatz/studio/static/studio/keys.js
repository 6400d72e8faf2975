// @ts-check
// Which keys belong to the page while something has the focus: what is typed into a text field is the field's, all else the page's.

const TEXT = new Set(["text", "search", "email", "password", "url", "tel"]);
/** Keys that mean something inside a figure, or move and delete there. */
const IN_FIGURES = /^([\d.,+\-−e%]|Arrow\w+|Home|End|Backspace|Delete|Enter|Tab|PageUp|PageDown)$/;

/** @param {any} target  What has the focus, reduced to what decides: "text", "figure", "choice", "slider", "switch", "dialog" or "". */
export function fieldOf(target) {
  if (!target?.closest) return "";
  if (target.closest("textarea, [contenteditable]")) return "text";
  const input = target.closest("input");
  if (input) {
    if (input.type === "number" || input.inputMode === "decimal") return "figure";
    if (TEXT.has(input.type)) return "text";
    if (input.type === "range") return "slider";
    return ["checkbox", "radio"].includes(input.type) ? "switch" : "";
  }
  if (target.closest("select")) return "choice";
  return target.closest(".modal.show, .offcanvas.show") ? "dialog" : "";
}

/** True where the field `kind` keeps `key` for itself and the page must not act on it.
 *  @param {string} kind
 *  @param {string} key */
export function keeps(kind, key) {
  if (kind === "text") return true;
  if (key === " ") return kind === "switch";
  if (kind === "figure") return IN_FIGURES.test(key);
  if (kind === "choice") return key.length === 1 ? /[\p{L}\d]/u.test(key) : key !== "Escape";
  if (kind === "slider" || kind === "switch") return /^(Arrow|Home|End|Page)/.test(key);
  return kind === "dialog";
}

/** True where a key event is the page's to act on: not typed into a field, not a combination.
 *  @param {KeyboardEvent} event */
export const isForPage = (event) => !event.defaultPrevented && !event.ctrlKey && !event.metaKey && !event.altKey && !keeps(fieldOf(event.target), event.key);
