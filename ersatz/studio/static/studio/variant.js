// @ts-check
// Addresses of songs that no revision holds: an edit tried, or some parts alone. The server reads the same code.

/** `body`: {edit} or {ask}, and {heard: [part ids]}; `listen` is the revision's address.
 *  @param {string} listen
 *  @param {object} body */
export function variantUrl(listen, body) {
  const code = btoa(String.fromCharCode(...new TextEncoder().encode(JSON.stringify(body)))).replaceAll("+", "-").replaceAll("/", "_").replaceAll("=", "");
  return `${listen}with/${code}/`;
}
