// @ts-check
// Listening by bars. Reference and remake are fetched in chunks of whole bars and scheduled side by side on the Web Audio
// clock, so that flipping between them is a cross-fade and not a search. Positions are bars from 0, fractional.

import { CHUNK, Track } from "./track.js";
import { heardThrough } from "./ways.js";

const RATE = 44100;
const AHEAD_S = 5;
const FADE_S = 0.012;
/** What replaces the running sound begins so much later: time enough to schedule it. */
const HAND_OVER_S = 0.06;
/** Audio that can't be had is asked for again for so long: where a correction is taken back, the page hears a moment later than the server
 *  that bars have another address. */
const PATIENCE_S = 3;
const CLICK_LEVEL = 0.25, DRONE_LEVEL = 0.05;

/** @typedef {"reference" | "remake"} Which */
/** A piece that is scheduled: `bars` from `bar` on, at a time of the clock, the chunk that it is cut from, and how many bars have played before it.
 *  @typedef {{ time: number, bar: number, bars: number, barS: number, chunk: number, played: number }} Segment */
/** What plays along under the remake: stretches as [first bar, bars, the reference's first bar, its bars], from 0; `off`: first bars that are left out.
 *  @typedef {{ on: boolean, db: number, band: string, map: [number, number, number, number][], off: number[] }} Guide */

export class Player {
  /** @param {import("./states").Tracks} data */
  constructor(data) {
    this.id = data.id;
    /** @type {{ reference?: Track, remake?: Track }} */
    this.tracks = {};
    if (data.reference) this.tracks.reference = new Track(data.reference);
    if (data.remake) this.tracks.remake = new Track(data.remake);
    /** @type {Which} */
    this.heard = data.remake ? "remake" : "reference";
    this.bar = 0;
    /** @type {{ start: number, end: number } | null} */
    this.loop = null;
    this.isPlaying = false;
    /** What plays along, a click on the grid or a drone on the tonic, and what is heard of the tracks (ways.js). */
    this.aids = { click: false, drone: false, band: "", without: false, channel: "stereo", speaker: "" };
    /** Whether the louder of the two is turned down. */
    this.isEqual = true;
    /** In a blind test nothing on the page tells which of the two plays, and nothing but the test changes it. */
    this.isHidden = false;
    /** Reference and remake take turns after so many bars, 0 for never; the one that `began`. */
    this.turns = { bars: 0, began: this.heard };
    /** The reference along under the remake, section by section.
     *  @type {Guide} */
    this.guide = { on: false, db: -12, band: "", map: [], off: [] };
    this.tonicHz = data.reference?.tonicHz ?? 0;
    /** @type {OscillatorNode[]} */
    this.tones = [];
    /** @type {Segment[]} */
    this.segments = [];
    /** @type {Map<unknown, (bar: number) => void>} */
    this.watchers = new Map();
    this.generation = 0;
    /** Made on the first gesture (`open`); nothing that needs it runs before.
     *  @type {AudioContext} */
    this.context = /** @type {any} */ (null);
    /** Where everything goes that plays now.
     *  @type {GainNode | null} */
    this.output = null;
    /** @type {Partial<Record<Which, GainNode>>} */
    this.gains = {};
    /** @type {GainNode | null} */
    this.guideGain = null;
    /** The remake itself, which may be silent under what plays on top of it.
     *  @type {GainNode | null} */
    this.under = null;
    this.cursor = { bar: 0, time: 0, played: 0 };
    /** Since when what comes next can't be had, on the clock.
     *  @type {number | null} */
    this.missingSince = null;
    this.onChange = () => {};
    /** @type {(sentence: string) => void} */
    this.onProblem = () => {};
    /** What plays on top of the remake while a change is on its way (preview.js): told of every piece that is scheduled, and of every restart.
     *  @type {{ restarted: () => void, scheduled: (segment: Segment) => void } | null} */
    this.overlay = null;
    this.onStart = () => {};
    this.#remember();
  }

  /** The one that is heard. */
  get track() {
    return /** @type {Track} */ (this.tracks[this.heard]);
  }

  get bars() {
    return this.track.bars;
  }

  get sections() {
    return this.track.sections;
  }

  get inParallel() {
    const { reference, remake } = this.tracks;
    return reference !== undefined && remake !== undefined && Math.abs(reference.bpm - remake.bpm) < 1e-6;
  }

  /** Index of the section at a bar position, -1 after the end. */
  sectionAt(bar = this.position()) {
    return this.sections.findIndex(([, start, bars]) => bar >= start - 1 && bar < start - 1 + bars);
  }

  position() {
    if (!this.isPlaying || !this.segments.length) return this.bar;
    const [segment, into] = this.#now();
    return segment.bar + into;
  }

  /** The piece that plays, and how many of its bars have.
   *  @returns {[Segment, number]} */
  #now() {
    const now = this.context.currentTime;
    let segment = this.segments[0];
    for (const s of this.segments) if (s.time <= now) segment = s;
    return [segment, Math.max(0, Math.min((now - segment.time) / segment.barS, segment.bars))];
  }

  /** Bars that have played since it began, or was set anew. */
  #played() {
    if (!this.segments.length) return 0;
    const [segment, into] = this.#now();
    return segment.played + into;
  }

  /** Call `move(bar)` as the position changes; `owner` replaces its earlier watcher.
   *  @param {unknown} owner
   *  @param {(bar: number) => void} move */
  watch(owner, move) {
    this.watchers.set(owner, move);
    move(this.position());
  }

  #announce() {
    for (const move of this.watchers.values()) move(this.position());
    this.onChange();
  }

  /** The running clock, made on the first gesture: browsers allow no sound before. */
  async open() {
    this.context ??= new AudioContext({ sampleRate: RATE });
    await this.context.resume();
    return this.context;
  }

  /** `countIn`: a bar of clicks first. */
  async play({ countIn = false } = {}) {
    if (this.isPlaying) return;
    await this.open();
    if (this.bar >= this.bars - 0.01) this.bar = 0;
    this.isPlaying = true;
    this.#startAt(this.bar, { countIn });
    this.onStart();
    this.#tick();
  }

  stop() {
    if (!this.isPlaying) return;
    this.bar = this.position();
    this.isPlaying = false;
    this.#silence();
    this.#save();
    this.#announce();
  }

  toggle() {
    return this.isPlaying ? this.stop() : this.play();
  }

  /** @param {number} bar */
  seek(bar) {
    const target = Math.max(0, Math.min(bar, this.bars - 0.001));
    if (this.loop && (target < this.loop.start || target >= this.loop.end)) this.#loopAt(target);
    this.bar = target;
    if (this.isPlaying) this.#startAt(target);
    this.#save();
    this.#announce();
  }

  /** Sections on, or back.
   *  @param {number} sections */
  step(sections) {
    const here = this.sectionAt();
    const inside = here >= 0 ? this.position() - (this.sections[here][1] - 1) : 0;
    // Back goes to the section's own start first, as long as it has played for a bar.
    const target = sections < 0 && inside > 1 ? here : Math.max(0, Math.min(this.sections.length - 1, here + sections));
    this.seek(this.sections[target][1] - 1);
  }

  toggleLoop() {
    if (this.loop) this.loop = null;
    else this.#loopAt(this.position());
    if (this.isPlaying) this.#startAt(this.position());
    this.#levels();
    this.#announce();
  }

  /** @param {number} bar */
  #loopAt(bar) {
    const [, start, bars] = this.sections[Math.max(0, this.sectionAt(bar))];
    this.loop = { start: start - 1, end: start - 1 + bars };
  }

  /** @param {Which} name */
  hear(name) {
    if (!this.tracks[name]) return;
    this.turns.bars = 0;
    if (name === this.heard) return;
    const at = this.position();
    this.heard = name;
    if (this.isPlaying && !this.inParallel) this.#startAt(Math.min(at, this.bars - 0.01));
    this.#levels();
    this.#save();
    this.#announce();
  }

  /** Switch what plays along, or how it is heard; from the next moment on.
   *  @param {Partial<{ click: boolean, drone: boolean } & import("./ways.js").Way>} change */
  setAid(change) {
    Object.assign(this.aids, change);
    if (this.isPlaying) this.#startAt(this.position(), { seamless: true });
    this.#announce();
  }

  /** Both at equal loudness, or as they are.
   *  @param {boolean} isEqual */
  setEqual(isEqual) {
    this.isEqual = isEqual;
    this.#levels();
    this.#announce();
  }

  /** Reference and remake in turn, each for so many bars; 0: the one that is heard goes on.
   *  @param {number} bars */
  setTurns(bars) {
    this.turns = { bars: this.inParallel ? bars : 0, began: this.heard };
    if (this.isPlaying) this.#startAt(this.position(), { seamless: true });
    this.#announce();
  }

  /** Who has the turn once so many bars have played.
   *  @param {number} played
   *  @returns {Which} */
  #turn(played) {
    const { bars, began } = this.turns, isOther = Math.floor(played / bars + 1e-6) % 2 === 1;
    return isOther ? (began === "remake" ? "reference" : "remake") : began;
  }

  /** What the guide plays, or how: heard from the next moment on.
   *  @param {Partial<Guide>} change */
  setGuide(change) {
    Object.assign(this.guide, change);
    if (this.isPlaying) this.#startAt(this.position());
    this.#announce();
  }

  get canGuide() {
    return this.inParallel && this.guide.map.length > 0;
  }

  /** Stretches of the reference that belong under bars `from` to `end`: [bar, bars, the reference's bar].
   *  @param {number} from
   *  @param {number} end */
  #guided(from, end) {
    /** @type {[number, number, number][]} */
    const out = [];
    for (const [start, bars, there, length] of this.guide.map) {
      const last = Math.min(end, start + Math.min(bars, length));
      let bar = Math.max(from, start);
      if (this.guide.off.includes(start)) continue;
      while (bar < last - 1e-6) {
        const at = there + bar - start, stop = Math.min(last, bar + CHUNK - (at % CHUNK));
        out.push([bar, stop - bar, at]);
        bar = stop;
      }
    }
    return out;
  }

  /** @param {number} from
   *  @param {number} end
   *  @param {number} time
   *  @param {number} generation */
  async #scheduleGuide(from, end, time, generation) {
    const track = this.tracks.reference;
    if (!track || !this.guide.on || !this.canGuide || this.heard !== "remake") return;
    const pieces = await Promise.all(this.#guided(from, end).map(async ([bar, bars, at]) => ({ bar, bars, at, buffer: await track.chunk(this.context, Math.floor(at / CHUNK + 1e-9)).catch(() => null) })));
    if (generation !== this.generation || !this.guideGain) return;
    for (const { bar, bars, at, buffer } of pieces) {
      const begins = time + (bar - from) * track.barS, late = Math.max(0, this.context.currentTime - begins);
      if (!buffer || late >= bars * track.barS) continue;
      const source = this.context.createBufferSource();
      source.buffer = buffer;
      source.connect(this.guideGain);
      source.start(begins + late, (at % CHUNK) * track.barS + late, bars * track.barS - late);
    }
  }

  /** @param {AudioNode} output */
  #startDrone(output) {
    if (!this.aids.drone || !this.tonicHz) return;
    for (const [ratio, level] of [[1, 1], [2, 0.4], [1.5, 0.3]]) {
      const tone = new OscillatorNode(this.context, { type: "triangle", frequency: this.tonicHz * ratio });
      const gain = new GainNode(this.context, { gain: DRONE_LEVEL * level });
      tone.connect(gain).connect(output);
      tone.start();
      this.tones.push(tone);
    }
  }

  /** Clicks on the beats of the bars from `from` to `end`; the first of a bar is higher.
   *  @param {number} from
   *  @param {number} end
   *  @param {number} time
   *  @param {Track} track */
  #clicks(from, end, time, track, always = false) {
    const { output } = this;
    if (!output || (!this.aids.click && !always)) return;
    for (let beat = Math.ceil(from * track.beats - 1e-6); beat < end * track.beats - 1e-6; beat += 1) {
      const at = time + (beat / track.beats - from) * track.barS;
      const tone = new OscillatorNode(this.context, { frequency: beat % track.beats === 0 ? 1760 : 1175 });
      const gain = new GainNode(this.context, { gain: 0 });
      gain.gain.setValueAtTime(CLICK_LEVEL, at);
      gain.gain.exponentialRampToValueAtTime(0.001, at + 0.04);
      tone.connect(gain).connect(output);
      tone.start(at);
      tone.stop(at + 0.05);
    }
  }

  /** Play a short sound of its own, such as the kick's portrait.
   *  @param {string} url */
  async playOnce(url) {
    await this.open();
    const answer = await fetch(url);
    if (!answer.ok) throw new Error(`audio: ${answer.status}`);
    const source = new AudioBufferSourceNode(this.context, { buffer: await this.context.decodeAudioData(await answer.arrayBuffer()) });
    source.connect(this.context.destination);
    source.start();
  }

  flip() {
    if (!this.isHidden) this.hear(this.heard === "remake" ? "reference" : "remake");
  }

  /** The remake has changed: what comes next is fetched from its new address, the sound goes on from where it is. At the address that it
   *  has only what is known of it is new.
   *  @param {string} url
   *  @param {Partial<Pick<import("./states").Track, "bars" | "bpm" | "sections">> & { louderDb?: number }} changes */
  async replaceRemake(url, changes = {}) {
    const track = this.tracks.remake;
    if (!track) return;
    const isSame = track.url === url;
    track.replace(isSame ? changes : { louderDb: 0, ...changes, url });
    // Another section may be under the playhead now.
    this.#announce();
    if (isSame) this.#levels();
    if (isSame || !this.isPlaying) return;
    await this.#ready(track);
    if (this.isPlaying && track.url === url) this.#startAt(this.position(), { seamless: true });
  }

  /** Loads what a track plays now and within the next moment.
   *  @param {Track} track */
  async #ready(track) {
    const soon = HAND_OVER_S + 0.3, now = this.position();
    const places = [now, this.#wrapped(now + soon / track.barS)];
    await Promise.all([...new Set(places.map((bar) => Math.floor(bar / CHUNK)))].map((k) => track.chunk(this.context, k).catch(() => null)));
  }

  /** A position behind the loop's end, inside it again.
   *  @param {number} bar */
  #wrapped(bar) {
    const { loop } = this;
    return loop && bar >= loop.end ? loop.start + ((bar - loop.end) % (loop.end - loop.start)) : Math.min(bar, this.bars - 0.01);
  }

  /** The reference on another grid, or measured anew: it plays on from where it is in the file.
   *  @param {import("./states").ReferenceTrack} data */
  async replaceReference(data) {
    const track = this.tracks.reference;
    if (!track) return;
    const seconds = track.firstS + this.position() * track.barS, isOther = track.url !== data.url;
    const loopAt = this.loop && track.firstS + (this.loop.start + 0.5) * track.barS;
    track.replace(data);
    this.tonicHz = data.tonicHz;
    const bar = Math.max(0, Math.min((seconds - track.firstS) / track.barS, this.bars - 0.01));
    if (this.heard !== "reference" || !isOther) {
      this.#announce();
      return;
    }
    if (!this.isPlaying) this.bar = bar;
    if (loopAt) this.#loopAt(Math.max(0, (loopAt - track.firstS) / track.barS));
    if (this.isPlaying) {
      const { url } = track;
      await track.chunk(this.context, Math.floor(bar / CHUNK)).catch(() => null);
      if (this.isPlaying && track.url === url) this.#startAt(bar);
    }
    this.#announce();
  }

  /** Loudness of a track over the loop, or of the whole track: mean power of its short-term course, LUFS.
   *  @param {Track} track */
  loudness(track) {
    const { loop } = this;
    if (!loop || !track.shortTerm.length) return track.lufs;
    const inside = track.shortTerm.filter(([bar]) => bar - 1 >= loop.start && bar - 1 < loop.end);
    if (!inside.length) return track.lufs;
    return 10 * Math.log10(inside.reduce((sum, [, lufs]) => sum + 10 ** (lufs / 10), 0) / inside.length);
  }

  /** Reference less remake in dB, null until the remake is measured: the louder one comes down by it. */
  offsetDb() {
    const { reference, remake } = this.tracks;
    if (!remake || !reference || !this.isEqual) return 0;
    const a = this.loudness(reference), b = this.loudness(remake);
    return a == null || b == null ? null : a - b;
  }

  /** Fades to the one that is heard, at once or at a time of the clock. */
  #levels(heard = this.heard, at = this.context?.currentTime) {
    if (!this.context || !this.gains) return;
    const offset = this.offsetDb() ?? 0;
    for (const [name, gain] of Object.entries(this.gains)) {
      const own = name === "remake" ? Math.min(0, offset) - (this.tracks.remake?.louderDb ?? 0) : Math.min(0, -offset);
      const level = name === heard ? 10 ** (own / 20) : 0;
      gain.gain.setTargetAtTime(level, at, FADE_S / 3);
    }
    if (this.guideGain) this.guideGain.gain.value = 10 ** ((this.guide.db + Math.min(0, -offset)) / 20);
  }

  /** What plays now fades out, at once or at a time of the clock. */
  #silence(at = this.context?.currentTime ?? 0) {
    this.generation += 1;
    clearTimeout(this.timer);
    const old = this.output;
    if (old) {
      old.gain.setTargetAtTime(0, at, FADE_S / 3);
      setTimeout(() => old.disconnect(), 200 + 1000 * (at - this.context.currentTime));
    }
    for (const tone of this.tones) tone.stop(at + 0.1);
    this.tones = [];
    this.output = null;
    this.segments = [];
  }

  /** Plays from `bar` on. `seamless`: what plays goes on until the new takes over in time, at the place that it has reached by then.
   *  @param {number} bar */
  #startAt(bar, { countIn = false, seamless = false } = {}) {
    const { context, track } = this;
    this.turns.began = this.heard;
    const at = context.currentTime + (seamless ? HAND_OVER_S : 0.05);
    this.#silence(seamless ? at : context.currentTime);
    this.bar = seamless ? this.#wrapped(bar + HAND_OVER_S / track.barS) : bar;
    const output = context.createGain();
    this.output = output;
    if (seamless) {
      output.gain.value = 0;
      output.gain.setTargetAtTime(1, at, FADE_S / 3);
    }
    output.connect(context.destination);
    const input = heardThrough(context, output, this.aids);
    this.#startDrone(output);
    this.gains = {};
    for (const name of this.#names()) {
      const gain = new GainNode(context, { gain: 0 });
      gain.connect(input);
      this.gains[name] = gain;
    }
    this.under = context.createGain();
    this.under.connect(this.gains.remake ?? input);
    this.guideGain = context.createGain();
    this.guideGain.connect(heardThrough(context, output, { band: this.guide.band }));
    this.#levels();
    this.overlay?.restarted();
    this.cursor = { bar: this.bar, time: at, played: 0 };
    this.missingSince = null;
    if (countIn) {
      this.#clicks(0, 1, this.cursor.time, track, true);
      this.cursor.time += track.barS;
    }
    this.#fill(this.generation);
  }

  /** Schedule whole pieces until AHEAD_S are covered; a piece ends at a chunk's or the loop's end.
   *  @param {number} generation */
  async #fill(generation) {
    const { context } = this;
    while (this.isPlaying && generation === this.generation) {
      const main = this.track;
      if (this.loop && this.cursor.bar >= this.loop.end - 1e-6) this.cursor.bar = this.loop.start;
      if (this.cursor.bar >= main.bars - 1e-6) break;
      if (this.cursor.time - context.currentTime > AHEAD_S) break;
      const k = Math.floor(this.cursor.bar / CHUNK + 1e-9);
      const from = this.cursor.bar;
      const end = Math.min((k + 1) * CHUNK, this.loop && from < this.loop.end ? this.loop.end : Infinity, main.bars);
      const names = this.inParallel ? this.#names() : [this.heard];
      /** @type {(AudioBuffer | null)[]} */
      let buffers;
      try {
        buffers = await Promise.all(names.map((name) => this.#chunk(name, from, k)));
      } catch {
        if (generation !== this.generation) return;
        this.missingSince ??= context.currentTime;
        if (context.currentTime - this.missingSince < PATIENCE_S) break;
        this.onProblem("This stretch could not be loaded. Is Ersatz still running?");
        this.stop();
        return;
      }
      if (!this.isPlaying || generation !== this.generation) return;
      this.missingSince = null;
      // Late for its time: the music goes on from now rather than being cut.
      if (this.cursor.time < context.currentTime + 0.01) this.cursor.time = context.currentTime + 0.03;
      names.forEach((name, i) => {
        const track = this.tracks[name], into = name === "remake" ? this.under : this.gains[name];
        if (!buffers[i] || !track || !into) return;
        const source = context.createBufferSource(), { barS } = track;
        source.buffer = buffers[i];
        source.connect(into);
        source.start(this.cursor.time, (from - k * CHUNK) * barS, (end - from) * barS);
      });
      this.#clicks(from, end, this.cursor.time, main);
      this.#scheduleGuide(from, end, this.cursor.time, generation);
      const segment = { time: this.cursor.time, bar: from, bars: end - from, barS: main.barS, chunk: k, played: this.cursor.played };
      this.#takeTurns(segment);
      this.segments.push(segment);
      this.overlay?.scheduled(segment);
      while (this.segments.length > 2 && this.segments[1].time < context.currentTime) this.segments.shift();
      this.cursor = { bar: end, time: this.cursor.time + (end - from) * main.barS, played: this.cursor.played + end - from };
      this.onProblem("");
    }
    if (this.isPlaying && generation === this.generation) this.timer = setTimeout(() => this.#fill(generation), 400);
  }

  /** Within a piece: each turn at its time.
   *  @param {Segment} segment */
  #takeTurns({ time, bars, barS, played }) {
    const every = this.turns.bars;
    if (!every) return;
    for (let turn = Math.ceil(played / every - 1e-6); turn * every < played + bars - 1e-6; turn += 1) {
      if (turn) this.#levels(this.#turn(turn * every), time + (turn * every - played) * barS);
    }
  }

  #names() {
    return /** @type {Which[]} */ (Object.keys(this.tracks));
  }

  /** Once the audio of a track's bar is there.
   *  @param {Which} name
   *  @param {number} bar
   *  @returns {Promise<unknown>} */
  loaded(name, bar) {
    return this.#chunk(name, bar, Math.floor(bar / CHUNK));
  }

  /** A track's chunk k; null where the track has ended before bar `from`.
   *  @param {Which} name
   *  @param {number} from
   *  @param {number} k */
  async #chunk(name, from, k) {
    const track = this.tracks[name];
    return track && from < track.bars ? track.chunk(this.context, k) : null;
  }

  #tick() {
    if (!this.isPlaying) return;
    if (this.turns.bars) this.heard = this.#turn(this.#played());
    this.#announce();
    if (!this.loop && this.position() >= this.bars - 0.005 && this.segments.length) {
      this.stop();
      this.seek(0);
      return;
    }
    requestAnimationFrame(() => this.#tick());
  }

  #save() {
    try {
      sessionStorage.setItem(`ersatz.listen.${this.id}`, JSON.stringify({ bar: this.bar, heard: this.heard }));
    } catch {
      // A browser without storage forgets the place between pages, nothing else.
    }
  }

  #remember() {
    try {
      const kept = JSON.parse(sessionStorage.getItem(`ersatz.listen.${this.id}`) ?? "null");
      if (!kept) return;
      if (this.tracks[/** @type {Which} */ (kept.heard)]) this.heard = kept.heard;
      this.bar = Math.max(0, Math.min(kept.bar, this.bars - 1));
    } catch {
      this.bar = 0;
    }
    window.addEventListener("pagehide", () => this.#save());
  }
}
