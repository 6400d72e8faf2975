// @ts-check
// A track in chunks of whole bars, as the player fetches them.

/** Bars of a chunk: so few that a change is soon heard, so many that most of what is asked for is audio. */
export const CHUNK = 2;
const KEPT_CHUNKS = 80;

/** @typedef {import("./states").Track} TrackData */
/** @typedef {import("./states").ReferenceTrack} ReferenceData */

export class Track {
  /** @param {TrackData & Partial<ReferenceData>} data */
  constructor(data) {
    this.url = data.url;
    this.bars = data.bars;
    this.bpm = data.bpm;
    this.sections = data.sections;
    this.lufs = data.lufs;
    this.shortTerm = data.shortTerm;
    this.beats = data.beats ?? 4;
    this.firstS = data.firstS ?? 0;
    /** By how much it is louder than what it is compared with: it comes down by that, dB. */
    this.louderDb = 0;
    /** @type {Map<number, Promise<AudioBuffer>>} */
    this.chunks = new Map();
  }

  get barS() {
    return (60 * this.beats) / this.bpm;
  }

  /** Another version of it, or another grid, from its new address.
   *  @param {Partial<TrackData & ReferenceData & { louderDb: number }>} data */
  replace(data) {
    const { url, bars, bpm, sections, lufs, shortTerm, beats, firstS, louderDb } = { ...this, ...data };
    if (url !== this.url) this.chunks = new Map();
    Object.assign(this, { url, bars, bpm, sections, lufs, shortTerm, beats, firstS, louderDb });
  }

  /** Decoded audio of chunk k (CHUNK bars from bar k * CHUNK on, from 0); fetched once, the least recently used are forgotten.
   *  @param {BaseAudioContext} context
   *  @param {number} k
   *  @returns {Promise<AudioBuffer>} */
  chunk(context, k) {
    const known = this.chunks.get(k);
    if (known) {
      this.chunks.delete(k);
      this.chunks.set(k, known);
      return known;
    }
    const first = k * CHUNK + 1;
    const last = Math.min(first + CHUNK - 1, Math.max(this.bars, first));
    const loading = fetch(`${this.url}${first}-${last}.flac`)
      .then((answer) => {
        if (!answer.ok) throw new Error(`audio: ${answer.status}`);
        return answer.arrayBuffer();
      })
      .then((data) => context.decodeAudioData(data));
    loading.catch(() => this.chunks.delete(k));
    this.chunks.set(k, loading);
    if (this.chunks.size > KEPT_CHUNKS) this.chunks.delete(/** @type {number} */ (this.chunks.keys().next().value));
    return loading;
  }
}
