// @ts-check
// Ways of listening, of both tracks alike: one band, the middle or the sides alone, through a stand-in for another loudspeaker. All of it
// lies between the tracks and the output; nothing of it is ever part of a mixdown.

/** A filter of the browser's: kind, frequency in Hz, and gain in dB or Q where the kind has them.
 *  @typedef {{ type: BiquadFilterType, frequency: number, gain?: number, Q?: number }} Filter */
/** `monoBelow`, Hz: everything under it is mono, 0 for nothing, Infinity for all; `room`: decay in seconds and level of a small room behind it.
 *  @typedef {{ title: string, tip: string, monoBelow: number, filters: Filter[], room?: { seconds: number, db: number } }} Speaker */
/** What is heard of the tracks: a band of BANDS ("" for all), or all but it; "stereo", "mid" or "side"; a stand-in of SPEAKERS, or "".
 *  @typedef {{ band: string, without: boolean, channel: string, speaker: string }} Way */

/** Bands to hear alone, or to leave out: from and to in Hz, 0 for open.
 *  @type {Record<string, [number, number]>} */
export const BANDS = {
  low: [0, 200], mid: [200, 2800], high: [2800, 0],
  sub: [0, 90], bass: [90, 250], "low mids": [250, 800], mids: [800, 2500], "upper mids": [2500, 7000], highs: [7000, 0],
};
/** The six that a mix is judged by, as they are said.
 *  @type {[value: string, title: string][]} */
export const SIX_BANDS = [
  ["", "all bands"], ["sub", "sub, to 90 Hz"], ["bass", "bass, 90 to 250 Hz"], ["low mids", "low mids, 250 to 800 Hz"], ["mids", "mids, 800 Hz to 2.5 kHz"],
  ["upper mids", "upper mids, 2.5 to 7 kHz"], ["highs", "highs, from 7 kHz"],
];
/** @type {[value: string, title: string][]} */
export const CHANNELS = [["stereo", "stereo"], ["mid", "mid: what mono has"], ["side", "side: what mono loses"]];

/** Qs of the two sections of a filter of 24 dB per octave, in dB as Web Audio wants those of cuts: Butterworth's, and Linkwitz and Riley's,
 *  whose low and high pass add up to all. */
const STEEP = [-5.33, 2.32], CROSSOVER = [-3.01, -3.01];
const steep = (/** @type {BiquadFilterType} */ type, /** @type {number} */ frequency, qs = STEEP) => qs.map((Q) => ({ type, frequency, Q }));

/** Stand-ins: how such things treat a mix in general, not any one of them.
 *  @type {Record<string, Speaker>} */
export const SPEAKERS = {
  small: {
    title: "small speaker", tip: "Mono, nothing under 150 Hz, a little forward in the upper middle", monoBelow: Infinity,
    filters: [...steep("highpass", 150), { type: "peaking", frequency: 2000, gain: 3, Q: 0.7 }, { type: "highshelf", frequency: 10000, gain: -6 }],
  },
  phone: {
    title: "phone", tip: "Mono, nothing under 450 Hz or over 9 kHz, hard at 3 kHz", monoBelow: Infinity,
    filters: [...steep("highpass", 450), ...steep("lowpass", 9000), { type: "peaking", frequency: 3000, gain: 5, Q: 1 }],
  },
  club: {
    title: "club system", tip: "Mono under 120 Hz, 6 dB more of it, softer above 8 kHz, in a room", monoBelow: 120,
    filters: [{ type: "lowshelf", frequency: 90, gain: 6 }, { type: "highshelf", frequency: 8000, gain: -3 }], room: { seconds: 0.9, db: -16 },
  },
  // What the ear loses at 60 phon against 80, by the contours of ISO 226: 8.2 dB at 50 Hz, 6.0 at 100, 3.2 at 250.
  quiet: {
    title: "played quietly", tip: "As the ear hears it 20 dB lower: 8 dB less at 50 Hz, 3 less at 250", monoBelow: 0,
    filters: [{ type: "lowshelf", frequency: 80, gain: -3.7 }, { type: "lowshelf", frequency: 290, gain: -5 }],
  },
};

/** The first of a chain of nodes that ends in `output`; everything that is heard of the tracks goes through it.
 *  @param {BaseAudioContext} context
 *  @param {AudioNode} output
 *  @param {Partial<Way>} way
 *  @returns {AudioNode} */
export function heardThrough(context, output, { band = "", without = false, channel = "stereo", speaker = "" }) {
  return throughBand(context, throughChannel(context, throughSpeaker(context, output, SPEAKERS[speaker]), channel), band, without);
}

/** The band's filters; `without`: all but the band.
 *  @param {BaseAudioContext} context
 *  @param {AudioNode} output
 *  @param {string} band */
function throughBand(context, output, band, without = false) {
  const [from, to] = BANDS[band] ?? [0, 0];
  const edges = /** @type {[BiquadFilterType, number][]} */ ([["highpass", from], ["lowpass", to]]).filter(([, hz]) => hz);
  if (!without || !edges.length) return filtered(context, edges.flatMap(([type, hz]) => steep(type, hz)), output);
  // What lies below it and what lies above it, side by side.
  const input = context.createGain();
  for (const [type, hz] of edges) input.connect(filtered(context, steep(type === "highpass" ? "lowpass" : "highpass", hz), output));
  return input;
}

/** Filters in a row in front of the output; gives the first.
 *  @param {BaseAudioContext} context
 *  @param {Filter[]} filters
 *  @param {AudioNode} output
 *  @returns {AudioNode} */
function filtered(context, filters, output) {
  return filters.reduce((/** @type {AudioNode} */ next, settings) => { const filter = new BiquadFilterNode(context, settings); filter.connect(next); return filter; }, output);
}

/** A node that hands on the mean of both channels, heard on both sides.
 *  @param {BaseAudioContext} context */
const toMono = (context, gain = 1) => new GainNode(context, { gain, channelCount: 1, channelCountMode: "explicit", channelInterpretation: "speakers" });

/** @param {BaseAudioContext} context
 *  @param {AudioNode} output
 *  @param {string} channel */
function throughChannel(context, output, channel) {
  if (channel === "stereo") return output;
  const mono = toMono(context);
  mono.connect(output);
  if (channel === "mid") return mono;
  // The right side upside down: the mean is then half of what differs.
  const split = context.createChannelSplitter(2), joined = context.createChannelMerger(2), turned = new GainNode(context, { gain: -1 });
  split.connect(joined, 0, 0);
  split.connect(turned, 1);
  turned.connect(joined, 0, 1);
  joined.connect(mono);
  return split;
}

/** @param {BaseAudioContext} context
 *  @param {AudioNode} output
 *  @param {Speaker | undefined} speaker
 *  @returns {AudioNode} */
function throughSpeaker(context, output, speaker) {
  if (!speaker) return output;
  const { monoBelow, filters, room } = speaker, cone = filtered(context, filters, output);
  if (room) {
    const input = context.createGain(), wet = new GainNode(context, { gain: 10 ** (room.db / 20) }), walls = new ConvolverNode(context, { buffer: roomSound(context, room.seconds) });
    input.connect(cone);
    input.connect(walls).connect(wet).connect(cone);
    return monoUnder(context, input, monoBelow);
  }
  return monoUnder(context, cone, monoBelow);
}

/** @param {BaseAudioContext} context
 *  @param {AudioNode} output
 *  @param {number} hz */
function monoUnder(context, output, hz) {
  if (!hz) return output;
  const mono = toMono(context);
  mono.connect(output);
  if (hz === Infinity) return mono;
  const input = context.createGain();
  input.connect(filtered(context, steep("lowpass", hz, CROSSOVER), mono));
  input.connect(filtered(context, steep("highpass", hz, CROSSOVER), output));
  return input;
}

/** Noise that dies away by 60 dB in so many seconds; the same every time.
 *  @param {BaseAudioContext} context
 *  @param {number} seconds */
function roomSound(context, seconds) {
  const length = Math.round(seconds * context.sampleRate), buffer = context.createBuffer(2, length, context.sampleRate);
  let state = 20480;
  for (const channel of [0, 1]) {
    const samples = buffer.getChannelData(channel);
    for (let i = 0; i < length; i += 1) {
      state = (Math.imul(state, 1664525) + 1013904223) | 0;
      samples[i] = (state / 2 ** 31) * 10 ** ((-3 * i) / length);
    }
  }
  return buffer;
}
