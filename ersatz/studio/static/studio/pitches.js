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
