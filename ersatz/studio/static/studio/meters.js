// Meters while the remake plays, drawn from levels that the server measured on the same audio: peak with hold and RMS of each strip;
// loudness, peak, gain reduction and correlation of the mix; what the dynamics effects of the strip in hand take away.

import { node } from "./dom.js";
import { minus } from "./draw.js";

const CHUNK = 4, PER_BAR = 16, FLOOR_DB = -54, HOLD_S = 1.2;
/** Where the master's limiter takes more than this, the mix is driven into it. */
export const MUCH_REDUCED_DB = 4;

const wide = (db) => Math.max(0, Math.min(100, ((db - FLOOR_DB) / (6 - FLOOR_DB)) * 100));

/** Levels at an address that changes with the song, in pieces of CHUNK bars. */
class Pieces {
  constructor(url, bars) {
    Object.assign(this, { url, bars, chunks: new Map(), from: "" });
  }

  /** Piece `k` once it is there, else null; null where there is no address. */
  at(k) {
    const url = this.url();
    if (!url) return null;
    if (url !== this.from) {
      this.chunks.clear();
      this.from = url;
    }
    if (!this.chunks.has(k)) {
      const made = { data: null };
      this.chunks.set(k, made);
      const first = k * CHUNK + 1;
      fetch(`${url}${first}-${Math.min(first + CHUNK - 1, Math.max(first, this.bars()))}.json`).then((answer) => (answer.ok ? answer.json() : null)).then((data) => { made.data = data; }).catch(() => this.chunks.delete(k));
    }
    return this.chunks.get(k).data;
  }
}

export class MixMeters {
  /** `url()`: where the levels of the song as it stands are, by bars; `takenUrl()`: where what the dynamics of the strip in hand take is, or "";
   *  `rows`: the lanes by strip; `mix`: the place for the mix's figures; `taken(dB by effect)` shows it; `isMeasured()`: whether what
   *  plays is that song, and no variant of it. */
  constructor({ player, url, takenUrl, rows, mix, bars, taken, isMeasured }) {
    Object.assign(this, { player, rows, mix, taken, isMeasured, levels: new Pieces(url, bars), takings: new Pieces(takenUrl, bars), holds: new Map() });
    this.figures = Object.fromEntries([["momentary", "M"], ["short", "S"], ["peak", "peak"], ["reduction", "limiter"], ["correlation", "corr."]].map(([name, title]) => {
      const value = node("b"), box = node("span", "mix-figure", `${title} `);
      box.append(value);
      mix.append(box);
      return [name, value];
    }));
    mix.title = "Momentary and short-term loudness in LUFS, peak in dBFS, what the limiter takes away, correlation of left and right";
  }

  start() {
    this.player.watch(this, (bar) => this.#move(bar));
  }

  #move(bar) {
    if (!this.player.isPlaying || this.player.heard !== "remake" || !this.isMeasured()) {
      if (this.isOn) this.#rest();
      return;
    }
    this.isOn = true;
    const k = Math.floor(bar / CHUNK), data = this.levels.at(k);
    if (!data) return;
    const at = Math.min(data.momentary_lufs.length - 1, Math.floor((bar - k * CHUNK) * PER_BAR)), now = performance.now() / 1000;
    for (const [id, row] of this.rows) {
      const levels = data.strips[id];
      if (!levels) continue;
      const held = this.holds.get(id), peak = levels.peak_db[at];
      if (!held || peak >= held.db || now - held.at > HOLD_S) this.holds.set(id, { db: peak, at: now });
      const [rms, mark] = row.meter.children;
      rms.style.width = `${wide(levels.rms_db[at])}%`;
      mark.style.left = `${wide(this.holds.get(id).db)}%`;
      row.meter.classList.toggle("over", this.holds.get(id).db > 0);
    }
    const { momentary, short, peak, reduction, correlation } = this.figures, said = (v) => minus(v.toFixed(1));
    momentary.textContent = said(data.momentary_lufs[at]);
    short.textContent = said(data.short_term_lufs[at]);
    peak.textContent = said(this.holds.get("master")?.db ?? data.strips.master.peak_db[at]);
    this.limited = Math.max(data.limited_db[at], (this.limited ?? 0) * 0.98);
    reduction.textContent = `${minus((-this.limited).toFixed(1))} dB${this.limited > MUCH_REDUCED_DB ? " ▲" : ""}`;
    reduction.title = this.limited > MUCH_REDUCED_DB ? "The limiter takes more than 4 dB: the mix is driven into it" : "";
    correlation.textContent = minus(data.correlation[at].toFixed(1));
    const takings = this.takings.at(k)?.taken;
    if (takings) this.taken(Object.fromEntries(Object.entries(takings).map(([id, row]) => [id, row[at] ?? 0])));
  }

  #rest() {
    this.isOn = false;
    this.taken({});
    for (const row of this.rows.values()) {
      row.meter.children[0].style.width = "0";
      row.meter.children[1].style.left = "0";
    }
  }
}
