// @ts-check
// Names of pitches, spelled as a key has them.

import { PITCH_NAMES, SCALES, TONICS } from "./vocabulary.js";

/** @typedef {[tonic: string, mode: string]} Key */

/** Pitch class of a tonic, 0 for C.
 *  @param {string} tonic */
export const tonicClass = (tonic) => TONICS.indexOf(tonic);

/** Pitch classes of a key's scale.
 *  @param {Key} key
 *  @returns {number[]} */
export const scaleOf = ([tonic, mode]) => SCALES[mode].map((/** @type {number} */ step) => (step + tonicClass(tonic)) % 12);

/** The twelve pitch classes from C up as a key writes them.
 *  @param {Key} key
 *  @returns {string[]} */
export const pitchNames = ([tonic, mode]) => PITCH_NAMES[mode][tonic];

/** "B♭2" in B flat minor, "A♯2" in B major.
 *  @param {number} midi
 *  @param {Key} key */
export const noteName = (midi, key) => `${pitchNames(key)[midi % 12]}${Math.floor(midi / 12) - 1}`;

/** A place in a pattern as it is read: "bar 1 beat 2", with the 16th behind the beat where it lies between beats.
 *  @param {number} tick
 *  @param {number} ticksPerBar */
export function placeSaid(tick, ticksPerBar) {
  const beat = ticksPerBar / 4, inside = tick % ticksPerBar, sixteenth = Number((((inside % beat) / beat) * 4 + 1).toFixed(2));
  return `bar ${Math.floor(tick / ticksPerBar) + 1} beat ${Math.floor(inside / beat) + 1}${sixteenth === 1 ? "" : `, 16th ${sixteenth}`}`;
}
