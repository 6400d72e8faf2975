// @ts-check
// Equalisers as second-order sections: what changes between two states of a strip, for the browser's own filters and for drawing.
// Formulas of the cookbook (Bristow-Johnson), as ersatz/core/effects/eq.py has them; cuts are Butterworth.

/** @typedef {{ kind: string, hz: number, db: number, q: number }} Band */
/** @typedef {{ type: BiquadFilterType, hz: number, db: number, q: number }} Section */
/** @typedef {{ kind: string, on: boolean, params: Record<string, number>, choices: Record<string, string>, fields?: { name: string, value: number }[] }} Effect */
/** @typedef {{ cuts: number[] | null, effects: Effect[], eq?: { hz: number, gain_db: number, q: number }[] }} Strip */

const RATE = 44100, TOP = 0.45;

/** Bands of a strip: its cuts, and the bands of its equalisers that are on.
 *  @param {Strip} strip */
export function bandsOf(strip) {
  /** @type {Band[]} */
  const out = [];
  const [low, high] = strip.cuts ?? [0, 0];
  if (low > 0) out.push({ kind: "low cut 12", hz: low, db: 0, q: 1 });
  if (high > 0) out.push({ kind: "high cut 12", hz: high, db: 0, q: 1 });
  for (const { hz, gain_db: db, q } of strip.eq ?? []) out.push({ kind: "bell", hz, db, q });
  for (const effect of strip.effects) {
    if (effect.kind !== "eq" || !effect.on || effect.choices.channels === "mid" || effect.choices.channels === "side") continue;
    for (let k = 1; k <= 8; k += 1) {
      const kind = effect.choices[`band${k}_kind`] ?? "off";
      if (kind === "off") continue;
      const value = (/** @type {string} */ name) => effect.params[`band${k}_${name}`] ?? effect.fields?.find((f) => f.name === `band${k}_${name}`)?.value ?? 0;
      out.push({ kind, hz: value("hz"), db: value("db"), q: value("q") });
    }
  }
  return out;
}

/** Qs of the sections of a Butterworth cut.
 *  @param {string} kind */
const cutQs = (kind) => {
  const order = Number(kind.split(" ").at(-1)) / 6;
  return Array.from({ length: order / 2 }, (_, k) => 1 / (2 * Math.cos((Math.PI * (2 * k + 1)) / (2 * order))));
};

/** @type {Record<string, BiquadFilterType>} */
const TYPES = { bell: "peaking", "low shelf": "lowshelf", "high shelf": "highshelf" };

/** Sections of a band.
 *  @param {Band} band
 *  @returns {Section[]} */
export function sectionsOf({ kind, hz, db, q }) {
  if (kind.includes("cut")) return cutQs(kind).map((each) => ({ type: kind.startsWith("low") ? "highpass" : "lowpass", hz, db: 0, q: each }));
  return [{ type: TYPES[kind], hz, db, q }];
}

/** Sections that lead from how a strip was to how it is: a bell that is gone is undone by its inverse; a cut that is gone can't be.
 *  @param {Strip} was
 *  @param {Strip} now */
export function biquads(was, now) {
  const old = bandsOf(was).map((b) => JSON.stringify(b)), fresh = bandsOf(now).map((b) => JSON.stringify(b));
  const gone = old.filter((b) => !fresh.includes(b)).map((b) => /** @type {Band} */ (JSON.parse(b))).filter((b) => !b.kind.includes("cut"));
  const come = fresh.filter((b) => !old.includes(b)).map((b) => /** @type {Band} */ (JSON.parse(b)));
  return [...gone.map((b) => ({ ...b, db: -b.db })), ...come].flatMap(sectionsOf);
}

/** Coefficients [b0 b1 b2 a1 a2] of a section, normalised.
 *  @param {Section} section */
export function coefficients({ type, hz, db, q }) {
  const w = (2 * Math.PI * Math.min(hz, TOP * RATE)) / RATE, cos = Math.cos(w), alpha = Math.sin(w) / (2 * q), a = 10 ** (db / 40);
  let b, d;
  if (type === "peaking") [b, d] = [[1 + alpha * a, -2 * cos, 1 - alpha * a], [1 + alpha / a, -2 * cos, 1 - alpha / a]];
  else if (type === "highpass") [b, d] = [[(1 + cos) / 2, -(1 + cos), (1 + cos) / 2], [1 + alpha, -2 * cos, 1 - alpha]];
  else if (type === "lowpass") [b, d] = [[(1 - cos) / 2, 1 - cos, (1 - cos) / 2], [1 + alpha, -2 * cos, 1 - alpha]];
  else {
    const sign = type === "highshelf" ? -1 : 1, c = sign * cos, root = 2 * Math.sqrt(a) * alpha;
    b = [a * (a + 1 - (a - 1) * c + root), sign * 2 * a * (a - 1 - (a + 1) * c), a * (a + 1 - (a - 1) * c - root)];
    d = [a + 1 + (a - 1) * c + root, -sign * 2 * (a - 1 + (a + 1) * c), a + 1 + (a - 1) * c - root];
  }
  return [b[0] / d[0], b[1] / d[0], b[2] / d[0], d[1] / d[0], d[2] / d[0]];
}

/** Response of a section at a frequency, dB.
 *  @param {Section} section
 *  @param {number} hz */
export function responseDb(section, hz) {
  const [b0, b1, b2, a1, a2] = coefficients(section), w = (2 * Math.PI * hz) / RATE;
  const power = (/** @type {number} */ c0, /** @type {number} */ c1, /** @type {number} */ c2) => (c0 + c1 * Math.cos(w) + c2 * Math.cos(2 * w)) ** 2 + (c1 * Math.sin(w) + c2 * Math.sin(2 * w)) ** 2;
  return 10 * Math.log10(Math.max(1e-12, power(b0, b1, b2)) / Math.max(1e-12, power(1, a1, a2)));
}

/** Response of all bands of a strip at a frequency, dB.
 *  @param {Strip} strip
 *  @param {number} hz */
export const stripResponseDb = (strip, hz) => bandsOf(strip).flatMap(sectionsOf).reduce((sum, s) => sum + responseDb(s, hz), 0);

/** The browser's own filter with the same response.
 *  @param {BaseAudioContext} context
 *  @param {Section} section */
export function filterNode(context, section) {
  const [b0, b1, b2, a1, a2] = coefficients(section);
  return new IIRFilterNode(context, { feedforward: [b0, b1, b2], feedback: [1, a1, a2] });
}
