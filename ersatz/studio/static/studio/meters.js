// @ts-check
// Meters while the remake plays, drawn from levels that the server measured on the same audio: peak with hold and RMS of each strip;
// loudness, peak, gain reduction and correlation of the mix; what the dynamics effects of the strip in hand take away.

import { node } from "./dom.js";
import { minus } from "./draw.js";
import { tip } from "./tips.js";
import { LIMITS } from "./vocabulary.js";

const CHUNK = 4, PER_BAR = 16, FLOOR_DB = -54, HOLD_S = 1.2;

const wide = (/** @type {number} */ db) => Math.max(0, Math.min(100, ((db - FLOOR_DB) / (6 - FLOOR_DB)) * 100));

/** Levels at an address that changes with the song, in pieces of CHUNK bars. What is heard goes first: a piece is asked for behind the
 *  audio of a bar. */
class Pieces {
  /** @param {() => string} url
   *  @param {() => number} bars
   *  @param {(bar: number) => Promise<unknown>} audio */
  constructor(url, bars, audio) {
    this.url = url;
    this.bars = bars;
    this.audio = audio;
    /** @type {Map<number, { data: any }>} */
    this.chunks = new Map();
    this.from = "";
  }

  /** The piece that a bar lies in once it is there, else null; null where there is no address.
   *  @param {number} bar */
  at(bar) {
    const url = this.url(), k = Math.floor(bar / CHUNK);
    if (!url) return null;
    if (url !== this.from) {
      this.chunks.clear();
      this.from = url;
    }
    if (!this.chunks.has(k)) {
      /** @type {{ data: any }} */
      const made = { data: null };
      this.chunks.set(k, made);
      const first = k * CHUNK + 1;
      const last = Math.min(first + CHUNK - 1, Math.max(first, this.bars()));
      this.audio(bar).then(() => fetch(`${url}${first}-${last}.json`)).then((answer) => (answer.ok ? answer.json() : null)).then((data) => { made.data = data; }).catch(() => this.chunks.delete(k));
    }
    return this.chunks.get(k)?.data ?? null;
  }
}

export class MixMeters {
  /** `url()`: where the levels of the song as it stands are, by bars; `takenUrl()`: where what the dynamics of the strip in hand take is, or "";
   *  `rows`: the lanes by strip; `mix`: the place for the mix's figures; `taken(dB by effect)` shows it; `isMeasured()`: whether what
   *  plays is that song, and no variant of it.
   *  @param {{ player: import("./player.js").Player, url: () => string, takenUrl: () => string, rows: Map<string, { meter: HTMLElement }>, mix: HTMLElement, bars: () => number, taken: (db: Record<string, number>) => void, isMeasured: () => boolean }} options */
  constructor({ player, url, takenUrl, rows, mix, bars, taken, isMeasured }) {
    this.player = player;
    this.rows = rows;
    this.taken = taken;
    this.isMeasured = isMeasured;
    const audio = (/** @type {number} */ bar) => player.loaded("remake", bar).catch(() => null);
    this.levels = new Pieces(url, bars, audio);
    this.takings = new Pieces(takenUrl, bars, audio);
    /** Peaks that are held, by strip. @type {Map<string, { db: number, at: number }>} */
    this.holds = new Map();
    this.limited = 0;
    this.isOn = false;
    this.figures = Object.fromEntries([["momentary", "M"], ["short", "S"], ["peak", "peak"], ["reduction", "limiter"], ["correlation", "corr."]].map(([name, title]) => {
      const value = node("b"), box = node("span", "mix-figure", `${title} `);
      box.append(value);
      mix.append(box);
      return [name, value];
    }));
    tip(mix, "Momentary and short-term loudness in LUFS, peak in dBFS, what the limiter takes away, correlation of left and right");
  }

  start() {
    this.player.watch(this, (/** @type {number} */ bar) => this.#move(bar));
  }

  /** @param {number} bar */
  #move(bar) {
    if (!this.player.isPlaying || this.player.heard !== "remake" || !this.isMeasured()) {
      if (this.isOn) this.#rest();
      return;
    }
    this.isOn = true;
    const k = Math.floor(bar / CHUNK), data = this.levels.at(bar);
    if (!data) return;
    const at = Math.min(data.momentary_lufs.length - 1, Math.floor((bar - k * CHUNK) * PER_BAR)), now = performance.now() / 1000;
    for (const [id, row] of this.rows) {
      const levels = data.strips[id];
      if (!levels) continue;
      const last = this.holds.get(id), peak = levels.peak_db[at];
      const held = !last || peak >= last.db || now - last.at > HOLD_S ? { db: peak, at: now } : last;
      this.holds.set(id, held);
      const [rms, mark] = /** @type {HTMLElement[]} */ ([...row.meter.children]);
      rms.style.width = `${wide(levels.rms_db[at])}%`;
      mark.style.left = `${wide(held.db)}%`;
      row.meter.classList.toggle("over", held.db > 0);
    }
    const { momentary, short, peak, reduction, correlation } = this.figures, said = (/** @type {number} */ v) => minus(v.toFixed(1));
    momentary.textContent = said(data.momentary_lufs[at]);
    short.textContent = said(data.short_term_lufs[at]);
    peak.textContent = said(this.holds.get("master")?.db ?? data.strips.master.peak_db[at]);
    this.limited = Math.max(data.limited_db[at], this.limited * 0.98);
    reduction.textContent = `${minus((-this.limited).toFixed(1))} dB${this.limited > LIMITS.mostLimitedDb ? " ▲" : ""}`;
    tip(reduction, this.limited > LIMITS.mostLimitedDb ? `The limiter takes more than ${LIMITS.mostLimitedDb} dB: the mix is driven into it` : "");
    correlation.textContent = minus(data.correlation[at].toFixed(1));
    const takings = this.takings.at(bar)?.taken;
    if (takings) this.taken(Object.fromEntries(Object.entries(takings).map(([id, row]) => [id, row[at] ?? 0])));
  }

  #rest() {
    this.isOn = false;
    this.taken({});
    for (const row of this.rows.values()) {
      const [rms, mark] = /** @type {HTMLElement[]} */ ([...row.meter.children]);
      rms.style.width = "0";
      mark.style.left = "0";
    }
  }
}
