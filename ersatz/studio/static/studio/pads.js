// @ts-check
// Notes by pads and by the computer keyboard, heard at once; recorded along the running player if asked.

import { isForPage } from "./keys.js";
import { noteName, scaleOf } from "./pitches.js";
import { FIRST_SLICE, TICKS_PER_BAR } from "./vocabulary.js";

/** @typedef {import("./pitches.js").Key} Key */
/** A key that is down; `bar`: where the player was, null where it stood still.
 *  @typedef {{ midi: number, velocity: number, bar: number | null, isOver?: boolean, stop?: () => void }} Held */
/** A note that was recorded, in bars from 0.
 *  @typedef {{ midi: number, velocity: number, bar: number, end: number }} Recorded */

const KEYS = "awsedftgyhujk";
const SIXTEENTH = 240;
const BLACK = [1, 3, 6, 8, 10];
/** White keys in front of each of the thirteen from a C on. */
const WHITES = [0, 1, 1, 2, 2, 3, 4, 4, 5, 5, 6, 6, 7];

/** @param {BaseAudioContext} context
 *  @param {string} url */
async function decoded(context, url) {
  const answer = await fetch(url);
  if (!answer.ok) throw new Error(`audio: ${answer.status}`);
  return context.decodeAudioData(await answer.arrayBuffer());
}

export class Pads {
  /** `says(sentence)` tells what becomes of what is played.
   *  @param {HTMLElement} host
   *  @param {import("./player.js").Player | null} player
   *  @param {(sentence: string) => void} says */
  constructor(host, player, says) {
    this.host = host;
    this.player = player;
    this.says = says;
    this.base = 60;
    this.root = 60;
    this.url = "";
    /** @type {Key} */
    this.key = ["A", "minor"];
    this.pitched = true;
    this.slices = 0;
    this.failed = false;
    /** @type {Map<number, Promise<AudioBuffer>>} */
    this.buffers = new Map();
    /** @type {Map<string, Held>} */
    this.held = new Map();
    this.isRecording = false;
    /** What was recorded.
     *  @type {Recorded[]} */
    this.line = [];
    /** @type {AudioContext | null} */
    this.context = null;
    /** @type {AudioBufferSourceNode | null} */
    this.playing = null;
    document.addEventListener("keydown", (event) => this.#pressed(event));
    document.addEventListener("keyup", (event) => this.#released(event.key.toLowerCase()));
    window.addEventListener("blur", () => { for (const key of [...this.held.keys()]) this.#released(key); });
  }

  /** `slices`: how many a sliced sample has, one to a key from `base` on.
   *  @param {{ base: number | undefined, url: string, key: Key, pitched: boolean, slices?: number }} options */
  show({ base, url, key, pitched, slices = 0 }) {
    if (url !== this.url) this.buffers.clear();
    Object.assign(this, { base: base ?? this.base, url, key, pitched, slices });
    this.#draw();
  }

  /** @param {number} by */
  octave(by) {
    this.base = Math.min(96, Math.max(12, this.base + 12 * by));
    this.#draw();
  }

  #draw() {
    const root = this.base - (this.base % 12), scale = scaleOf(this.key);
    this.root = root;
    this.host.classList.toggle("keyboard", this.pitched && !this.slices);
    const count = this.slices ? Math.min(13, Math.max(1, this.slices - (root - FIRST_SLICE))) : this.pitched ? 13 : 1;
    this.host.replaceChildren(...Array.from({ length: count }, (_, i) => {
      const midi = root + i, pad = document.createElement("button");
      const keyed = this.pitched && !this.slices, black = keyed && BLACK.includes(midi % 12);
      pad.className = `pad${keyed ? (black ? " black" : " white") : ""}${keyed && scale.includes(midi % 12) ? " in-scale" : ""}`;
      // A black key lies over the line between two white ones.
      if (keyed) pad.style.setProperty("--white", String(WHITES[i]));
      pad.dataset.midi = String(midi);
      const note = this.slices ? `Slice ${midi - FIRST_SLICE + 1}` : noteName(midi, this.key);
      pad.innerHTML = `<b>${this.pitched ? note : "Hit"}</b><kbd aria-hidden="true">${KEYS[i].toUpperCase()}</kbd>`;
      pad.setAttribute("aria-label", this.pitched ? `${note}${!this.slices && scale.includes(midi % 12) ? ", in the key" : ""}` : "Hit");
      pad.addEventListener("pointerdown", () => { this.#down(KEYS[i], midi); window.addEventListener("pointerup", () => this.#released(KEYS[i]), { once: true }); });
      pad.addEventListener("click", (event) => { if (event.detail) pad.blur(); });
      pad.addEventListener("keydown", (event) => { if (event.key === "Enter" && !event.repeat) { this.#down(KEYS[i], midi); setTimeout(() => this.#released(KEYS[i]), 150); } });
      return pad;
    }));
  }

  /** @param {KeyboardEvent} event */
  #pressed(event) {
    if (event.repeat || !isForPage(event)) return;
    if (event.key === "PageUp" || event.key === "PageDown") {
      event.preventDefault();
      this.octave(event.key === "PageUp" ? 1 : -1);
      return;
    }
    const key = event.key.toLowerCase(), i = KEYS.indexOf(key);
    if (i < 0 || (!this.pitched && i > 0)) return;
    this.#down(key, this.root + i);
  }

  /** From elsewhere than the keys and the pads: a MIDI keyboard.
   *  @param {string} key
   *  @param {number} midi
   *  @param {number} velocity */
  down(key, midi, velocity) {
    return this.#down(key, midi, velocity);
  }

  /** @param {string} key */
  up(key) {
    this.#released(key);
  }

  /** @param {string} key
   *  @param {number} midi */
  async #down(key, midi, velocity = 0.85) {
    if (this.held.has(key)) return;
    /** @type {Held} */
    const note = { midi, velocity, bar: this.player?.isPlaying ? this.player.position() : null };
    this.held.set(key, note);
    this.host.querySelector(`[data-midi="${midi}"]`)?.classList.add("down");
    try {
      const context = await this.#open(), buffer = await this.#buffer(context, midi);
      const source = new AudioBufferSourceNode(context, { buffer }), gain = new GainNode(context);
      source.connect(gain).connect(context.destination);
      source.start();
      note.stop = () => { gain.gain.setTargetAtTime(0, context.currentTime, 0.06); source.stop(context.currentTime + 0.5); };
      // Let go before it was loaded: it is heard for a moment all the same.
      if (note.isOver && this.pitched) note.stop();
      if (this.failed) this.says("");
      this.failed = false;
    } catch {
      this.failed = true;
      this.says("The note could not be loaded. Is Ersatz still running?");
    }
  }

  /** @param {string} key */
  #released(key) {
    const note = this.held.get(key);
    if (!note) return;
    this.held.delete(key);
    note.isOver = true;
    this.host.querySelector(`[data-midi="${note.midi}"]`)?.classList.remove("down");
    if (this.pitched) note.stop?.();
    if (this.isRecording && note.bar !== null) {
      this.line.push({ midi: note.midi, velocity: note.velocity, bar: note.bar, end: Math.max(this.player?.position() ?? 0, note.bar) });
      this.says(`${this.line.length} ${this.line.length === 1 ? "note" : "notes"} recorded`);
    }
  }

  async #open() {
    this.context ??= new AudioContext({ sampleRate: 44100 });
    await this.context.resume();
    return this.context;
  }

  /** @param {AudioContext} context
   *  @param {number} midi */
  #buffer(context, midi) {
    const known = this.buffers.get(midi);
    if (known) return known;
    const loading = decoded(context, `${this.url}${midi}.flac`);
    loading.catch(() => this.buffers.delete(midi));
    this.buffers.set(midi, loading);
    return loading;
  }

  /** Play any short sound from its address.
   *  @param {string} url */
  async playUrl(url) {
    const context = await this.#open(), buffer = await decoded(context, url);
    this.playing?.stop();
    this.playing = new AudioBufferSourceNode(context, { buffer });
    this.playing.connect(context.destination);
    this.playing.start();
  }

  /** Records what is played from now on. */
  record() {
    this.line = [];
    this.isRecording = true;
  }

  stop() {
    this.isRecording = false;
  }

  /** What was recorded as notes of a pattern `bars` long that starts at bar `from` (0-based); `amount` 0..1 of the way to the grid.
   *  @param {number} from
   *  @param {number} bars */
  notes(from, bars, grid = SIXTEENTH, amount = 1) {
    const length = bars * TICKS_PER_BAR, { line } = this;
    /** @type {Map<string, { tick: number, ticks: number, midi: number, velocity: number }>} */
    const found = new Map();
    for (const { midi, velocity, bar, end } of line) {
      const played = (bar - from) * TICKS_PER_BAR, nearest = Math.round(played / grid) * grid;
      const tick = ((Math.round(played + amount * (nearest - played)) % length) + length) % length;
      const ticks = Math.max(grid, Math.round(((end - bar) * TICKS_PER_BAR) / grid) * grid);
      found.set(`${tick}.${midi}`, { tick, ticks: Math.min(ticks, length - tick), midi, velocity: Number(velocity.toFixed(2)) });
    }
    return [...found.values()];
  }
}
