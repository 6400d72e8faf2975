// Names of pitches, spelled as a key has them.

import { PITCH_NAMES, SCALES, TONICS } from "./vocabulary.js";

/** Pitch class of a tonic, 0 for C. */
export const tonicClass = (tonic) => TONICS.indexOf(tonic);

/** Pitch classes of a key's scale. */
export const scaleOf = ([tonic, mode]) => SCALES[mode].map((step) => (step + tonicClass(tonic)) % 12);

/** The twelve pitch classes from C up as a key writes them. */
export const pitchNames = ([tonic, mode]) => PITCH_NAMES[mode][tonic];

/** "B♭2" in B flat minor, "A♯2" in B major. */
export const noteName = (midi, key) => `${pitchNames(key)[midi % 12]}${Math.floor(midi / 12) - 1}`;

/** A place in a pattern as it is read: "bar 1 beat 2", with the 16th behind the beat where it lies between beats. */
export function placeSaid(tick, ticksPerBar) {
  const beat = ticksPerBar / 4, inside = tick % ticksPerBar, sixteenth = Number((((inside % beat) / beat) * 4 + 1).toFixed(2));
  return `bar ${Math.floor(tick / ticksPerBar) + 1} beat ${Math.floor(inside / beat) + 1}${sixteenth === 1 ? "" : `, 16th ${sixteenth}`}`;
}
