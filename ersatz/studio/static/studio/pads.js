// Notes by pads and by the computer keyboard, heard at once; recorded along the running player if asked.

import { isForPage } from "./keys.js";
import { noteName, scaleOf } from "./pitches.js";
import { FIRST_SLICE, TICKS_PER_BAR } from "./vocabulary.js";

const KEYS = "awsedftgyhujk";
const SIXTEENTH = 240;
const BLACK = [1, 3, 6, 8, 10];
/** White keys in front of each of the thirteen from a C on. */
const WHITES = [0, 1, 1, 2, 2, 3, 4, 4, 5, 5, 6, 6, 7];

export class Pads {
  constructor(host, player, says) {
    Object.assign(this, { host, player, says, base: 60, url: "", key: ["A", "minor"], pitched: true, buffers: new Map(), held: new Map(), line: null });
    this.context = null;
    document.addEventListener("keydown", (event) => this.#pressed(event));
    document.addEventListener("keyup", (event) => this.#released(event.key.toLowerCase()));
    window.addEventListener("blur", () => { for (const key of [...this.held.keys()]) this.#released(key); });
  }

  /** `slices`: how many a sliced sample has, one to a key from `base` on. */
  show({ base, url, key, pitched, slices = 0 }) {
    if (url !== this.url) this.buffers.clear();
    Object.assign(this, { base: base ?? this.base, url, key, pitched, slices });
    this.#draw();
  }

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
      pad.dataset.midi = midi;
      const note = this.slices ? `Slice ${midi - FIRST_SLICE + 1}` : noteName(midi, this.key);
      pad.innerHTML = `<b>${this.pitched ? note : "Hit"}</b><kbd aria-hidden="true">${KEYS[i].toUpperCase()}</kbd>`;
      pad.setAttribute("aria-label", this.pitched ? `${note}${!this.slices && scale.includes(midi % 12) ? ", in the key" : ""}` : "Hit");
      pad.addEventListener("pointerdown", () => { this.#down(KEYS[i], midi); window.addEventListener("pointerup", () => this.#released(KEYS[i]), { once: true }); });
      pad.addEventListener("click", (event) => { if (event.detail) pad.blur(); });
      pad.addEventListener("keydown", (event) => { if (event.key === "Enter" && !event.repeat) { this.#down(KEYS[i], midi); setTimeout(() => this.#released(KEYS[i]), 150); } });
      return pad;
    }));
  }

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

  /** From elsewhere than the keys and the pads: a MIDI keyboard. */
  down(key, midi, velocity) {
    return this.#down(key, midi, velocity);
  }

  up(key) {
    this.#released(key);
  }

  async #down(key, midi, velocity = 0.85) {
    if (this.held.has(key)) return;
    const note = { midi, velocity, bar: this.player?.isPlaying ? this.player.position() : null };
    this.held.set(key, note);
    this.host.querySelector(`[data-midi="${midi}"]`)?.classList.add("down");
    try {
      const buffer = await this.#buffer(midi);
      const source = new AudioBufferSourceNode(this.context, { buffer }), gain = new GainNode(this.context);
      source.connect(gain).connect(this.context.destination);
      source.start();
      note.stop = () => { gain.gain.setTargetAtTime(0, this.context.currentTime, 0.06); source.stop(this.context.currentTime + 0.5); };
      // Let go before it was loaded: it is heard for a moment all the same.
      if (note.isOver && this.pitched) note.stop();
      if (this.failed) this.says("");
      this.failed = false;
    } catch {
      this.failed = true;
      this.says("The note could not be loaded. Is Ersatz still running?");
    }
  }

  #released(key) {
    const note = this.held.get(key);
    if (!note) return;
    this.held.delete(key);
    note.isOver = true;
    this.host.querySelector(`[data-midi="${note.midi}"]`)?.classList.remove("down");
    if (this.pitched) note.stop?.();
    if (this.line && note.bar !== null) {
      this.line.push({ midi: note.midi, velocity: note.velocity, bar: note.bar, end: Math.max(this.player.position(), note.bar) });
      this.says(`${this.line.length} ${this.line.length === 1 ? "note" : "notes"} recorded`);
    }
  }

  async #buffer(midi) {
    this.context ??= new AudioContext({ sampleRate: 44100 });
    await this.context.resume();
    if (!this.buffers.has(midi)) {
      const loading = fetch(`${this.url}${midi}.flac`).then((answer) => {
        if (!answer.ok) throw new Error(`audio: ${answer.status}`);
        return answer.arrayBuffer();
      }).then((data) => this.context.decodeAudioData(data));
      loading.catch(() => this.buffers.delete(midi));
      this.buffers.set(midi, loading);
    }
    return this.buffers.get(midi);
  }

  /** Play any short sound from its address. */
  async playUrl(url) {
    this.context ??= new AudioContext({ sampleRate: 44100 });
    await this.context.resume();
    const answer = await fetch(url);
    if (!answer.ok) throw new Error(`audio: ${answer.status}`);
    this.playing?.stop();
    this.playing = new AudioBufferSourceNode(this.context, { buffer: await this.context.decodeAudioData(await answer.arrayBuffer()) });
    this.playing.connect(this.context.destination);
    this.playing.start();
  }

  takeDown(on) {
    this.line = on ? [] : this.line;
  }

  /** What was recorded as notes of a pattern `bars` long that starts at bar `from` (0-based); `amount` 0..1 of the way to the grid. */
  notes(from, bars, grid = SIXTEENTH, amount = 1) {
    const length = bars * TICKS_PER_BAR, found = new Map();
    for (const { midi, velocity, bar, end } of this.line ?? []) {
      const played = (bar - from) * TICKS_PER_BAR, nearest = Math.round(played / grid) * grid;
      const tick = ((Math.round(played + amount * (nearest - played)) % length) + length) % length;
      const ticks = Math.max(grid, Math.round(((end - bar) * TICKS_PER_BAR) / grid) * grid);
      found.set(`${tick}.${midi}`, { tick, ticks: Math.min(ticks, length - tick), midi, velocity: Number(velocity.toFixed(2)) });
    }
    return [...found.values()];
  }
}
