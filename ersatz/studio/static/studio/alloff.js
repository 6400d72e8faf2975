// @ts-check
// "Everything off": the mix with all of a strip's effects off, or on again, equally loud both by the strip and by the mix. Nothing is changed.

import { LEAST_CUT_HZ } from "./mixacts.js";
import { louderDb, variantUrl } from "./variant.js";

/** @typedef {import("./mix.js").Strip} Strip */

/** Edits that switch everything of a strip off, its effects at the loudness `db` that they add; of the master its low cut, EQ and width too; its limiter stays, or what is heard would clip.
 *  @param {Strip} strip
 *  @param {number} db
 *  @returns {object[]} */
export function withoutAll(strip, db) {
  /** @type {object[]} */
  const edits = strip.effects.some((e) => e.on) ? [{ kind: "switch_chain", strip: strip.id, on: false, bypass_db: db }] : [];
  if (strip.kind !== "master") return edits;
  if (strip.eq.length) edits.push({ kind: "set_master_eq", bands: [] });
  if ((strip.cuts?.[0] ?? 0) > LEAST_CUT_HZ) edits.push({ kind: "set_master", name: "low_cut_hz", value: LEAST_CUT_HZ });
  for (const [name, value] of Object.entries({ width: 1, mono_below_hz: 0 })) if (strip.figures[name] !== value) edits.push({ kind: "set_strip", strip: strip.id, name, value });
  return edits;
}

export class AllOff {
  /** `levelUrl(id)` says by how much a strip's chain changes its loudness; `listen()` is the song's address; `bars()`: those that the loudness is judged by.
   *  @param {{ player: import("./player.js").Player, levelUrl: (id: string) => string, listen: () => string, bars: () => number[] }} options */
  constructor({ player, levelUrl, listen, bars }) {
    this.player = player;
    this.levelUrl = levelUrl;
    this.listen = listen;
    this.bars = bars;
    /** Id of the strip that is heard with everything off.
     *  @type {string | null} */
    this.strip = null;
  }

  /** @param {Strip} strip */
  async hear(strip) {
    this.strip = strip.id;
    const answer = await fetch(this.levelUrl(strip.id)).catch(() => null), db = answer?.ok ? (await answer.json()).db : 0;
    const url = variantUrl(this.listen(), { edit: { kind: "several", said: "Everything off", edits: withoutAll(strip, db) } });
    const louder = await louderDb(url, this.bars());
    if (this.strip !== strip.id) return;
    await this.player.replaceRemake(url, { louderDb: louder });
    if (!this.player.isPlaying) this.player.play();
  }
}
