// @ts-check
// The mix as it stands, with what is held or on its way on top.

/** @typedef {import("./states").StripState} Strip */
/** @typedef {import("./states").BalanceState} BalanceState */
/** What is other than it stands.
 *  @typedef {Partial<Omit<Strip, "figures" | "sends">> & { figures?: Record<string, number>, sends?: Strip["sends"] }} Change */

export class Mix {
  /** @param {BalanceState} state
   *  @param {(strip: Strip) => void} held  Told of what is held. */
  constructor(state, held) {
    this.state = state;
    this.held = held;
    /** By strip.
     *  @type {Map<string, Change>} */
    this.live = new Map();
    /** Ids of the strips that are heard alone.
     *  @type {Set<string>} */
    this.solo = new Set();
  }

  /** The strips as they stand with what is held. */
  wanted() {
    return this.state.strips.map((strip) => {
      const held = this.live.get(strip.id);
      return held ? /** @type {Strip} */ ({ ...strip, ...held, figures: { ...strip.figures, ...held.figures }, sends: { ...strip.sends, ...held.sends } }) : strip;
    });
  }

  /** @param {string} id */
  find(id) {
    return this.wanted().find((s) => s.id === id);
  }

  /** Of a strip that is there.
   *  @param {string} id */
  strip(id) {
    return /** @type {Strip} */ (this.find(id));
  }

  /** @param {string} id
   *  @param {Change} change */
  hold(id, change) {
    const held = this.live.get(id) ?? {};
    this.live.set(id, { ...held, ...change, figures: { ...held.figures, ...change.figures }, sends: { ...held.sends, ...change.sends } });
    this.held(this.strip(id));
  }

  /** Ids of the parts that solo lets through, none where nothing is soloed. */
  soloed() {
    /** @type {(id: string) => string[]} */
    const inside = (id) => this.state.strips.filter((s) => s.out === id).flatMap((s) => (s.kind === "part" ? [s.id] : inside(s.id)));
    return [...this.solo].flatMap((id) => (this.find(id)?.kind === "part" ? [id] : inside(id)));
  }
}
