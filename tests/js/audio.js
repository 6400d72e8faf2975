// A sound card of paper: a clock that the test moves, and a list of what was scheduled on it.

export const scheduled = [];
/** Fades that were scheduled: [level, time]. */
export const fades = [];
export const clock = { currentTime: 0 };
/** Addresses that answer "not found". */
export const gone = new Set();

const param = () => ({ value: 1, setTargetAtTime: (level, at) => fades.push([level, at]), setValueAtTime: () => {}, exponentialRampToValueAtTime: () => {} });

class Node {
  constructor(context, options = {}) {
    Object.assign(this, { gain: param(), ...options });
    if ("gain" in options) this.gain = Object.assign(param(), { value: options.gain });
  }

  connect(to) {
    return to;
  }

  disconnect() {}

  start(at = clock.currentTime, offset = 0, seconds = 0) {
    if (this.buffer) scheduled.push({ url: this.buffer.url, at, offset, seconds });
  }

  stop() {}
}

export class AudioContext {
  get currentTime() {
    return clock.currentTime;
  }

  destination = new Node();

  async resume() {}

  createGain() {
    return new Node();
  }

  createBufferSource() {
    return new Node();
  }

  /** The "data" is the address that it was fetched from. */
  async decodeAudioData(url) {
    return { url };
  }
}

/** Puts it in the place of the browser's. */
export function install() {
  Object.assign(globalThis, { AudioContext, GainNode: Node, AudioBufferSourceNode: Node, OscillatorNode: Node, BiquadFilterNode: Node });
  globalThis.sessionStorage = { getItem: () => null, setItem: () => {} };
  globalThis.requestAnimationFrame = () => 0;
  globalThis.fetch = async (url) => ({ ok: !gone.has(url), arrayBuffer: async () => url });
}
