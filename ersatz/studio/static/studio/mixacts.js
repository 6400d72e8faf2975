// @ts-check
// What the hands do with the strips of a mix: values held and set, sends, cuts and bands of their equalisers.

import { NEW_EFFECT, documentOf } from "./chain.js";
import { LIMITS } from "./vocabulary.js";

/** @typedef {import("./mix.js").Strip} Strip */
/** @typedef {import("./states").EffectState} EffectState */
/** @typedef {import("./states").Send} SendLevel */
/** A low or high cut: of a part or the master, or band `k` of effect `i`; 0 Hz where there is none.
 *  @typedef {{ which: "low" | "high", hz: number, i?: number, k?: number }} Cut */
/** A band: number `master` of the master's equaliser, or band `k` of effect `i`.
 *  @typedef {{ kind: string, hz: number, db: number, q: number, master?: number, i?: number, k?: number }} Band */
/** @typedef {{ hz?: number, db?: number, q?: number }} BandChange */

const NEW_BAND_KINDS = { low: "low cut 24", high: "high cut 24" };
/** Places of the bands of an equaliser. */
const BANDS = [1, 2, 3, 4, 5, 6, 7, 8];
const OPEN_BANDS = ["bell", "low shelf", "high shelf"];
/** The master's low cut is never lower, Hz. */
export const LEAST_CUT_HZ = 10;

const eqOf = (/** @type {Strip} */ strip) => strip.effects.findIndex((e) => e.kind === "eq" && e.on);
/** @param {number} k
 *  @param {BandChange} change
 *  @returns {Record<string, number>} */
const bandParams = (k, { hz, db, q }) => ({ ...(hz === undefined ? {} : { [`band${k}_hz`]: hz }), ...(db === undefined ? {} : { [`band${k}_db`]: db }), ...(q === undefined ? {} : { [`band${k}_q`]: q }) });
/** @param {EffectState} effect
 *  @param {number} k */
const kindOf = (effect, k) => effect.choices[`band${k}_kind`] ?? "off";
/** @param {EffectState} effect
 *  @param {number} k
 *  @param {"hz" | "db" | "q"} name */
const bandValue = (effect, k, name) => effect.params[`band${k}_${name}`] ?? effect.fields.find((f) => f.name === `band${k}_${name}`)?.value ?? 0;

/** A strip's effects with band `k` of effect `i` other; `kind` null leaves it, "off" takes it out.
 *  @param {EffectState[]} effects
 *  @param {number} i
 *  @param {number} k
 *  @param {BandChange} change
 *  @param {string | null} kind */
function withBand(effects, i, k, change, kind = null) {
  return effects.map((e, n) => (n === i ? { ...e, params: { ...e.params, ...bandParams(k, change) }, choices: { ...e.choices, ...(kind ? { [`band${k}_kind`]: kind } : {}) } } : e));
}

/** The first band of the strip's equaliser that is free, in a new one where it has none.
 *  @param {Strip} strip
 *  @returns {[effects: EffectState[], i: number, k: number]} */
function freeBand(strip) {
  const i = eqOf(strip), k = i < 0 ? undefined : BANDS.find((n) => kindOf(strip.effects[i], n) === "off");
  if (k) return [strip.effects, i, k];
  return [[...strip.effects, { ...NEW_EFFECT, kind: "eq", title: "", hasSidechain: false, picture: null, fields: [], options: [] }], strip.effects.length, 1];
}

export class MixActs {
  /** `pick(id)` takes a strip in hand, `listen()` plays the mix as it is now soloed, `drawn()` draws the lanes anew.
   *  @param {{ mix: import("./mix.js").Mix, send: import("./edits.js").Send, preview: import("./preview.js").Preview, pick: (id: string) => void,
   *    choose: (id: string, event: MouseEvent) => void, listen: () => void, drawn: () => void, redrawn: () => void }} options */
  constructor({ mix, send, preview, pick, choose, listen, drawn, redrawn }) {
    this.mix = mix;
    this.post = send;
    this.preview = preview;
    this.pick = pick;
    this.choose = choose;
    this.listen = listen;
    this.drawn = drawn;
    this.redrawn = redrawn;
  }

  /** @param {string} id
   *  @param {EffectState[]} effects */
  #setEffects(id, effects) {
    return this.post(() => ({ kind: "set_effects", strip: id, effects: effects.map(documentOf) }));
  }

  /** What was held is given up: the strip stands as it stood.
   *  @param {string} id */
  letGo(id) {
    this.mix.live.delete(id);
    this.preview.update(this.mix.wanted());
    this.redrawn();
  }

  /** @param {string} id */
  near(id) {
    this.preview.prefetch(id);
  }

  /** @param {string} id
   *  @param {string} to */
  nearSend(id, to) {
    this.preview.prefetchSend(id, to);
  }

  /** @param {string} id
   *  @param {Record<string, number>} figures */
  drag(id, figures) {
    this.mix.hold(id, { figures });
  }

  /** @param {string} id
   *  @param {Record<string, number>} figures */
  set(id, figures) {
    this.mix.hold(id, { figures });
    for (const [name, value] of Object.entries(figures)) this.post({ kind: "set_strip", strip: id, name, value });
  }

  /** @param {string} id */
  mute(id) {
    const mute = !this.mix.strip(id).mute;
    this.mix.hold(id, { mute });
    this.post({ kind: "mute_strip", strip: id, mute });
  }

  /** @param {string} id */
  solo(id) {
    if (!this.mix.solo.delete(id)) this.mix.solo.add(id);
    this.drawn();
    this.listen();
  }

  /** @param {string} id
   *  @param {string} to
   *  @param {Partial<SendLevel>} level
   *  @param {boolean} isDone */
  send(id, to, level, isDone) {
    const next = { ...(this.mix.strip(id).sends[to] ?? { db: LIMITS.closedDb, before_fader: false }), ...level };
    this.mix.hold(id, { sends: { [to]: next } });
    if (isDone) this.post({ kind: "set_send", strip: id, to, db: next.db, before_fader: next.before_fader });
  }

  /** @param {Strip} strip
   *  @returns {Cut[]} */
  cutsOf(strip) {
    const [low, high] = strip.cuts ?? [0, 0];
    if (strip.kind === "part") return [{ which: "low", hz: low }, { which: "high", hz: high }];
    if (strip.kind === "master") return [{ which: "low", hz: low }];
    const i = eqOf(strip), e = strip.effects[i];
    return /** @type {("low" | "high")[]} */ (["low", "high"]).map((which) => {
      const k = e && BANDS.find((n) => kindOf(e, n).startsWith(`${which} cut`));
      return { which, i, k, hz: k ? bandValue(e, k, "hz") : 0 };
    });
  }

  /** @param {string} id
   *  @param {{ which: string, i?: number, k?: number }} cut
   *  @param {number} hz
   *  @param {boolean} isDone */
  cut(id, { which, i, k }, hz, isDone) {
    const strip = this.mix.strip(id);
    if (strip.cuts) {
      const cuts = /** @type {[number, number]} */ (which === "low" ? [hz, strip.cuts[1]] : [strip.cuts[0], hz]);
      this.mix.hold(id, { cuts });
      if (isDone) this.post(strip.kind === "part" ? { kind: "set_cuts", part: id, low_cut_hz: cuts[0], high_cut_hz: cuts[1] } : { kind: "set_master", name: "low_cut_hz", value: Math.max(LEAST_CUT_HZ, hz) });
      return;
    }
    const isThere = k !== undefined && i !== undefined, [effects, at, band] = isThere ? [strip.effects, i, k] : freeBand(strip);
    const next = withBand(effects, at, band, hz ? { hz } : {}, hz ? (isThere ? null : NEW_BAND_KINDS[which === "low" ? "low" : "high"]) : "off");
    if (isThere) this.mix.hold(id, { effects: next });
    if (isDone) this.#setEffects(id, next);
  }

  /** @param {Strip} strip
   *  @returns {Band[]} */
  bandsOf(strip) {
    const own = strip.effects.flatMap((e, i) => (e.kind === "eq" && e.on ? BANDS.filter((k) => OPEN_BANDS.includes(kindOf(e, k))).map((k) => ({ i, k, kind: kindOf(e, k), hz: bandValue(e, k, "hz"), db: bandValue(e, k, "db"), q: bandValue(e, k, "q") })) : []));
    return [...strip.eq.map((b, master) => ({ master, kind: "bell", hz: b.hz, db: b.gain_db, q: b.q })), ...own];
  }

  /** `change` null takes the band out.
   *  @param {string} id
   *  @param {Band} band
   *  @param {BandChange | null} change
   *  @param {boolean} isDone */
  band(id, band, change, isDone) {
    const strip = this.mix.strip(id);
    if (band.master !== undefined) {
      const eq = change === null ? strip.eq.filter((_, k) => k !== band.master) : strip.eq.map((b, k) => (k === band.master ? { hz: change.hz ?? b.hz, gain_db: change.db ?? b.gain_db, q: change.q ?? b.q } : b));
      this.mix.hold(id, { eq });
      if (isDone) this.post({ kind: "set_master_eq", bands: eq });
      return;
    }
    const effects = withBand(strip.effects, band.i ?? 0, band.k ?? 0, change ?? {}, change === null ? "off" : null);
    this.mix.hold(id, { effects });
    if (isDone) this.#setEffects(id, effects);
  }

  /** @param {string} id
   *  @param {number} hz */
  addBand(id, hz) {
    const strip = this.mix.strip(id);
    this.pick(id);
    if (strip.kind === "master") {
      this.post({ kind: "set_master_eq", bands: [...strip.eq, { hz, gain_db: 0, q: 1 }] });
      return;
    }
    const [effects, i, k] = freeBand(strip);
    this.#setEffects(id, withBand(effects, i, k, { hz, db: 0, q: 1 }, "bell"));
  }
}
