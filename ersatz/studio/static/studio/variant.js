// @ts-check
// Addresses of songs that no revision holds: an edit tried, or some parts alone. The server reads the same code.

/** Codes of more letters are deflated: an address holds so much everywhere. */
const LONG = 2000;

/** @param {Uint8Array} bytes */
const letters = (bytes) => btoa(Array.from(bytes, (byte) => String.fromCharCode(byte)).join("")).replaceAll("+", "-").replaceAll("/", "_").replaceAll("=", "");
const written = (/** @type {object} */ body) => new TextEncoder().encode(JSON.stringify(body));

/** `body`: {edit} or {ask}, and {heard: [part ids]}; `listen` is the revision's address.
 *  @param {string} listen
 *  @param {object} body */
export const variantUrl = (listen, body) => `${listen}with/${letters(written(body))}/`;

/** The same where the body may be long.
 *  @param {string} listen
 *  @param {object} body */
export async function packedUrl(listen, body) {
  const bytes = written(body);
  if (letters(bytes).length <= LONG) return variantUrl(listen, body);
  const deflated = new Blob([bytes]).stream().pipeThrough(new CompressionStream("deflate-raw"));
  return `${listen}with/z-${letters(new Uint8Array(await new Response(deflated).arrayBuffer()))}/`;
}

/** By how many dB bars `from` to `to` are louder in a variant at `url` than in its revision: a comparison by ear takes it back.
 *  @param {string} url
 *  @param {number[]} bars
 *  @returns {Promise<number>} */
export async function louderDb(url, [from, to]) {
  const answer = await fetch(`${url}louder/${from}-${to}.json`).catch(() => null);
  return answer?.ok ? (await answer.json()).db : 0;
}
