// @ts-check
// Addresses of songs that no revision holds: an edit tried, or some parts alone. The server reads the same code.

/** `body`: {edit} or {ask}, and {heard: [part ids]}; `listen` is the revision's address.
 *  @param {string} listen
 *  @param {object} body */
export function variantUrl(listen, body) {
  const code = btoa(String.fromCharCode(...new TextEncoder().encode(JSON.stringify(body)))).replaceAll("+", "-").replaceAll("/", "_").replaceAll("=", "");
  return `${listen}with/${code}/`;
}

/** By how many dB bars `from` to `to` are louder in a variant at `url` than in its revision: a comparison by ear takes it back.
 *  @param {string} url
 *  @param {number[]} bars
 *  @returns {Promise<number>} */
export async function louderDb(url, [from, to]) {
  const answer = await fetch(`${url}louder/${from}-${to}.json`).catch(() => null);
  return answer?.ok ? (await answer.json()).db : 0;
}
