// @ts-check
// What a page shows, in its address: reload, back and a shared link show the same.

export const asked = new URLSearchParams(globalThis.location?.search ?? "");

/** @type {ReturnType<typeof setTimeout> | undefined} */
let later;

/** Puts values into the address without loading anything; null takes one out. Several in a row become one change.
 *  @param {Record<string, string | number | null>} values */
export function remember(values) {
  for (const [name, value] of Object.entries(values)) {
    if (value === null) asked.delete(name);
    else asked.set(name, String(value));
  }
  clearTimeout(later);
  later = setTimeout(() => history.replaceState(null, "", asked.size ? `?${asked}` : location.pathname), 250);
}
