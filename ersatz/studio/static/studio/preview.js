// @ts-check
// A change of the mix heard at once: what a strip adds to the mix by itself plays on top of the running loop, louder, softer, negative or
// filtered by as much as the change, until the true render takes over. Right for all that is linear, so for everything but what the
// dynamics of buses and master make of it.

import { biquads, filterNode } from "./biquads.js";
import { CHUNK } from "./track.js";
import { LIMITS } from "./vocabulary.js";

const FAST_S = 0.004;
const NOTHING = 1e-4, SILENT = [0, 0, 0, 0];

/** @typedef {import("./mix.js").Strip} Strip */
/** @typedef {import("./player.js").Segment} Segment */
/** @typedef {{ listen: string, strips: Strip[] }} Base */
/** @typedef {import("./biquads.js").Section} Section */
/** Four gains: left from left, left from right, right from left, right from right.
 *  @typedef {number[]} Matrix */
/** One way from a layer to the output.
 *  @typedef {{ split: ChannelSplitterNode, all: GainNode[] }} Branch */
/** @typedef {{ into: GainNode, dry: Branch, wet: Branch, filters: AudioNode[], specs?: string }} Nodes */

/** Gains of both sides of a strip: fader and pan, constant power and 1 in the middle.
 *  @param {Pick<Strip, "figures" | "mute">} strip */
export function sides({ figures, mute }) {
  if (mute) return [0, 0];
  const angle = ((Math.min(1, Math.max(-1, figures.pan)) + 1) * Math.PI) / 4, level = Math.SQRT2 * 10 ** (figures.gain_db / 20);
  return [Math.cos(angle) * level, Math.sin(angle) * level];
}

/** What leads from a strip as it was rendered to how it is to stand, as gains [left from left, left from right, right from left, right from
 *  right]: level, pan and width, as far as what was rendered still has both sides.
 *  @param {Pick<Strip, "figures" | "mute">} at
 *  @param {Pick<Strip, "figures" | "mute">} now
 *  @returns {Matrix} */
export function passed(at, now) {
  const [a, b] = sides(at), [c, d] = sides(now), by = (/** @type {number} */ to, /** @type {number} */ from) => (from > NOTHING ? to / from : 0);
  const wider = at.figures.width > NOTHING ? now.figures.width / at.figures.width : 1;
  if (wider === 1 || a <= NOTHING || b <= NOTHING) return [by(c, a), 0, 0, by(d, b)];
  // The middle stays, the sides are scaled: between undoing the pan and panning anew.
  const same = (1 + wider) / 2, other = (1 - wider) / 2;
  return [(c / a) * same, (c / b) * other, (d / a) * other, (d / b) * same];
}

/** What of a strip decides how it sounds in front of its fader. Of a bus or a return that is all that comes in, at its level.
 *  @param {Strip[]} strips
 *  @param {Strip} strip
 *  @returns {string} */
function sounds(strips, strip) {
  const { effects, cuts, duck, out, figures } = strip;
  const own = [effects.map((e) => ({ ...e, picture: null })), cuts, duck, out, figures.gain_in_db, figures.mono_below_hz];
  const fed = strip.kind === "part" ? [] : strips.filter((s) => s.out === strip.id || strip.id in s.sends).map((s) => [s.id, s.figures, s.mute, s.sends[strip.id], sounds(strips, s)]);
  return JSON.stringify([own, fed]);
}

/** One sound on top of the mix, in the chunks that the player plays. */
class Layer {
  /** `at`: the strip as it was rendered, `sounds`: what decided its sound.
   *  @param {Preview} preview
   *  @param {string} address
   *  @param {{ at: Strip, sounds: string }} made */
  constructor(preview, address, { at, sounds }) {
    this.preview = preview;
    this.address = address;
    this.at = at;
    this.sounds = sounds;
    /** @type {Map<number, Promise<unknown>>} */
    this.chunks = new Map();
    /** @type {Map<number, AudioBuffer>} */
    this.buffers = new Map();
    /** @type {{ segment: Segment, source: AudioBufferSourceNode }[]} */
    this.sources = [];
    /** @type {Nodes | null} */
    this.nodes = null;
    /** @type {Matrix} */
    this.dry = SILENT;
    /** @type {Matrix} */
    this.wet = SILENT;
    /** @type {Section[]} */
    this.filters = [];
  }

  get isHeard() {
    return [...this.dry, ...this.wet].some((g) => Math.abs(g) > NOTHING);
  }

  /** Chunk k, once; nothing behind the song's end.
   *  @param {number} k
   *  @returns {Promise<unknown>} */
  load(k) {
    const known = this.chunks.get(k);
    if (known) return known;
    const { bars } = this.preview, first = k * CHUNK + 1, last = Math.min(first + CHUNK - 1, bars);
    if (first > bars) return Promise.resolve();
    const loading = fetch(`${this.address}${first}-${last}.flac`)
      .then((answer) => (answer.ok ? answer.arrayBuffer() : Promise.reject(new Error(`audio: ${answer.status}`))))
      .then((data) => this.preview.player.context.decodeAudioData(data))
      .then((buffer) => this.buffers.set(k, buffer));
    loading.catch(() => this.chunks.delete(k));
    this.chunks.set(k, loading);
    return loading;
  }

  /** Loads what is missing of the pieces that play, then plays them. */
  async start() {
    const { player } = this.preview;
    this.#build();
    for (const segment of player.segments) {
      if (!this.buffers.has(segment.chunk)) await this.load(segment.chunk).catch(() => null);
    }
    if (this.nodes) for (const segment of player.segments) this.play(segment);
    this.apply();
  }

  /** @param {Segment} segment */
  play(segment) {
    const { context } = this.preview.player, buffer = this.buffers.get(segment.chunk);
    if (!buffer || !this.nodes || this.sources.some((s) => s.segment === segment)) return;
    const late = Math.max(0, context.currentTime - segment.time), length = segment.bars * segment.barS;
    if (late >= length) return;
    const source = new AudioBufferSourceNode(context, { buffer });
    source.connect(this.nodes.into);
    source.start(segment.time + late, (segment.bar - segment.chunk * CHUNK) * segment.barS + late, length - late);
    this.sources.push({ segment, source });
    this.sources = this.sources.filter((s) => s.segment.time + s.segment.bars * s.segment.barS > context.currentTime);
  }

  /** source -> split -> gains (dry) -> out, and -> filters -> split -> gains (wet) -> out. */
  #build() {
    if (this.nodes) return;
    const { context, gains, output } = this.preview.player, out = gains?.remake ?? output;
    if (!out) return;
    const into = new GainNode(context, { gain: this.preview.scale }), branch = () => {
      const split = new ChannelSplitterNode(context, { numberOfOutputs: 2 }), merge = new ChannelMergerNode(context, { numberOfInputs: 2 });
      const all = SILENT.map((_, k) => {
        const gain = new GainNode(context, { gain: 0 });
        split.connect(gain, k % 2).connect(merge, 0, k >> 1);
        return gain;
      });
      merge.connect(out);
      return { split, all };
    };
    const dry = branch(), wet = branch();
    into.connect(dry.split);
    this.nodes = { into, dry, wet, filters: [] };
  }

  apply() {
    if (!this.nodes) return;
    const { context } = this.preview.player, { into, dry, wet } = this.nodes;
    /** @type {[Branch, Matrix][]} */ ([[dry, this.dry], [wet, this.wet]]).forEach(([branch, wanted]) => branch.all.forEach((gain, k) => gain.gain.setTargetAtTime(wanted[k], context.currentTime, FAST_S)));
    const specs = JSON.stringify(this.filters);
    if (specs === this.nodes.specs) return;
    for (const old of this.nodes.filters) old.disconnect();
    if (this.nodes.specs !== undefined) into.disconnect(this.nodes.filters[0] ?? wet.split);
    this.nodes.filters = this.filters.map((spec) => filterNode(context, spec));
    this.nodes.filters.reduce((from, to) => from.connect(to), /** @type {AudioNode} */ (into)).connect(wet.split);
    this.nodes.specs = specs;
  }

  forget() {
    for (const { source } of this.sources) source.disconnect();
    this.sources = [];
    this.nodes = null;
  }
}

export class Preview {
  /** What a strip or its send adds is heard beneath the song's own address, `headroomDb` quieter than in the mix. `onState(isExact)`.
   *  @param {{ player: import("./player.js").Player, bars: number, headroomDb: number, onState: (isExact: boolean) => void }} options */
  constructor({ player, bars, headroomDb, onState }) {
    this.player = player;
    this.bars = bars;
    this.onState = onState;
    this.scale = 10 ** (headroomDb / 20);
    /** By strip, or by strip and return.
     *  @type {Map<string, Layer>} */
    this.layers = new Map();
    /** Ids of the strips that are heard alone.
     *  @type {string[] | null} */
    this.solo = null;
    /** The song that plays: its address and its strips.
     *  @type {Base | null} */
    this.base = null;
    /** @type {Strip[] | null} */
    this.wanted = null;
    player.overlay = this;
  }

  /** What is playing now; `wanted`: how they are to stand by now.
   *  @param {Base} base */
  rebase({ listen, strips }, wanted = strips) {
    const old = this.base;
    this.base = { listen, strips };
    // What a strip adds stays what it was, unless something in front of its fader has changed.
    for (const [key, layer] of this.layers) {
      const strip = strips.find((s) => s.id === layer.at.id);
      if (old && strip && layer.sounds === sounds(strips, strip)) continue;
      layer.forget();
      this.layers.delete(key);
    }
    this.update(wanted);
  }

  /** How the strips are to stand from now on; `live` while something is still held or on its way.
   *  @param {Strip[]} wanted */
  update(wanted) {
    this.wanted = wanted;
    if (!this.base || !this.player.isPlaying || this.player.heard !== "remake") return;
    let isExact = !this.solo;
    for (const strip of wanted) {
      const was = this.base.strips.find((s) => s.id === strip.id);
      if (!was || strip.kind === "master") continue;
      isExact = this.#strip(was, strip) && isExact;
      for (const to of new Set([...Object.keys(was.sends), ...Object.keys(strip.sends)])) isExact = this.#send(was, strip, to) && isExact;
    }
    this.onState(isExact);
  }

  /** Only these strips, until the true render of it plays; null for all.
   *  @param {string[] | null} ids */
  setSolo(ids) {
    this.solo = ids;
    if (this.wanted) this.update(this.wanted);
    this.#under();
  }

  #under() {
    const { context, under } = this.player;
    if (under) under.gain.setTargetAtTime(this.solo ? 0 : 1, context.currentTime, FAST_S);
  }

  /** What `at`, a strip of the song that plays, adds; `to` a return, or to the mix.
   *  @param {Strip} at */
  #layer(at, to = "") {
    const key = to ? `${at.id}>${to}` : at.id, known = this.layers.get(key);
    if (known) return known;
    const { listen, strips } = /** @type {Base} */ (this.base), id = encodeURIComponent(at.id);
    const layer = new Layer(this, to ? `${listen}send/${id}/${encodeURIComponent(to)}/` : `${listen}strip/${id}/`, { at, sounds: sounds(strips, at) });
    this.layers.set(key, layer);
    return layer;
  }

  /** Whether nothing of it is other than it plays.
   *  @param {Strip} was
   *  @param {Strip} strip */
  #strip(was, strip) {
    const filters = biquads(was, strip), now = sides(strip), old = sides(was), soloed = this.solo?.includes(strip.id);
    const isSame = !filters.length && now.every((g, i) => Math.abs(g - old[i]) < NOTHING) && strip.figures.width === was.figures.width && !this.solo;
    const known = this.layers.get(strip.id);
    if (isSame && !known) return true;
    if (this.solo && !soloed && !known) return false;
    const layer = known ?? this.#layer(was);
    const under = this.solo ? SILENT : passed(layer.at, was), over = this.solo && !soloed ? SILENT : passed(layer.at, strip);
    // Filtered, it is taken away as it was and comes back through the filters.
    layer.dry = filters.length ? under.map((g) => -g) : over.map((g, i) => g - under[i]);
    layer.wet = filters.length ? over : SILENT;
    layer.filters = filters;
    if (layer.isHeard && !layer.nodes) layer.start();
    else layer.apply();
    return isSame;
  }

  /** @param {Strip} was
   *  @param {Strip} strip
   *  @param {string} to */
  #send(was, strip, to) {
    const level = (/** @type {Strip} */ s) => (to in s.sends && s.sends[to].db > LIMITS.closedDb ? 10 ** (s.sends[to].db / 20) : 0), by = level(strip) - level(was);
    const known = this.layers.get(`${strip.id}>${to}`);
    if (Math.abs(by) < NOTHING && !known) return true;
    const layer = known ?? this.#layer(was, to);
    layer.dry = [by, 0, 0, by];
    if (layer.isHeard && !layer.nodes) layer.start();
    else layer.apply();
    return Math.abs(by) < NOTHING;
  }

  /** Loads what `id` adds where the player is, before it is touched.
   *  @param {string} id */
  async prefetch(id) {
    if (!this.base || !this.player.context) return;
    const strip = this.base.strips.find((s) => s.id === id);
    if (!strip || strip.kind === "master") return;
    const layer = this.#layer(strip), { loop } = this.player, at = this.player.position();
    const first = Math.floor((loop?.start ?? at) / CHUNK), last = Math.floor(((loop?.end ?? at + 4 * CHUNK) - 1e-6) / CHUNK);
    for (let k = first; k <= Math.min(last, first + 16); k += 1) await layer.load(k).catch(() => null);
  }

  /** Loads what a send would add, before it is touched.
   *  @param {string} id
   *  @param {string} to */
  async prefetchSend(id, to) {
    if (!this.base || !this.player.context) return;
    const strip = this.base.strips.find((s) => s.id === id), layer = strip && this.#layer(strip, to);
    const first = Math.floor((this.player.loop?.start ?? this.player.position()) / CHUNK);
    for (const k of [first, first + 1]) await layer?.load(k).catch(() => null);
  }

  // What the player tells ------------------------------------------------------------------------------------------------

  /** @param {Segment} segment */
  scheduled(segment) {
    for (const layer of this.layers.values()) {
      if (!layer.nodes) continue;
      if (layer.buffers.has(segment.chunk)) layer.play(segment);
      else layer.load(segment.chunk).then(() => layer.play(segment)).catch(() => null);
    }
  }

  /** The output is a new one: the layers begin anew on it. */
  restarted() {
    for (const layer of this.layers.values()) layer.forget();
    this.#under();
    queueMicrotask(() => { if (this.wanted) this.update(this.wanted); });
  }
}
