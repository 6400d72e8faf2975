// @ts-check
// Names of files as people read them.

/** Names that came out of an address: "Ferry%20at%20Four.wav" is "Ferry at Four.wav".
 *  @param {string} name */
export function decodedName(name) {
  try {
    return decodeURIComponent(name);
  } catch {
    return name;
  }
}
