// Names of pitches, spelled as a key has them.

/** As the core writes tonics, from C up. */
const TONICS = ["C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B"];
/** Where no key is known. */
export const MIXED = ["C", "C♯", "D", "E♭", "E", "F", "F♯", "G", "A♭", "A", "B♭", "B"];
const SHARP = ["C", "C♯", "D", "D♯", "E", "F", "F♯", "G", "G♯", "A", "A♯", "B"];
const FLAT = ["C", "D♭", "D", "E♭", "E", "F", "G♭", "G", "A♭", "A", "B♭", "B"];
/** Keys that are written with flats. */
const FLAT_KEYS = { major: ["F", "Bb", "Eb", "Ab"], minor: ["D", "G", "C", "F", "Bb", "Eb", "Ab"] };
const SCALES = { minor: [0, 2, 3, 5, 7, 8, 10], major: [0, 2, 4, 5, 7, 9, 11] };

/** Pitch class of a tonic, 0 for C. */
export const tonicClass = (tonic) => TONICS.indexOf(tonic);

/** Pitch classes of a key's scale. */
export const scaleOf = ([tonic, mode]) => SCALES[mode].map((step) => (step + tonicClass(tonic)) % 12);

/** "B♭2" in B flat minor, "A♯2" in B major. */
export function noteName(midi, [tonic, mode]) {
  return `${(FLAT_KEYS[mode].includes(tonic) ? FLAT : SHARP)[midi % 12]}${Math.floor(midi / 12) - 1}`;
}
