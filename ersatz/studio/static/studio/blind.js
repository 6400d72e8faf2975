// @ts-check
// The blind test: one of the two plays, unnamed and at equal loudness; which is it? Twenty rounds, and what guessing would have given.

import { button, node } from "./dom.js";

/** @typedef {import("./player.js").Which} Which */
/** @typedef {{ played: Which, said: Which }} Round */

export const ROUNDS = 20;
/** A score that guessing reaches less often than this counts as told. */
const TOLD = 0.05;

/** How likely it is that guessing gets so many of `rounds` right, or more: the upper tail of the binomial distribution at a half.
 *  @param {number} right
 *  @param {number} rounds */
export function chance(right, rounds) {
  let ways = 1, sum = 0;
  for (let k = 0; k <= rounds; k += 1) {
    if (k >= right) sum += ways;
    ways = (ways * (rounds - k)) / (k + 1);
  }
  return sum / 2 ** rounds;
}

/** @param {Round[]} rounds */
export const score = (rounds) => rounds.filter(({ played, said }) => played === said).length;

/** What a finished test says.
 *  @param {Round[]} rounds */
export function verdict(rounds) {
  const right = score(rounds), p = chance(right, rounds.length), percent = p < 0.001 ? "under 0.1" : (100 * p).toFixed(p < 0.1 ? 1 : 0);
  const told = p < TOLD ? "You can tell them apart." : "That is no better than guessing.";
  return `${right} of ${rounds.length} right. Guessing gets ${rounds.length / 2} in the mean, and as many as you or more in ${percent} % of tests. ${told}`;
}

export class BlindTest {
  /** `changed()` with every round; `coin()` says which comes next.
   *  @param {{ player: import("./player.js").Player, changed: () => void, coin?: () => Which }} options */
  constructor({ player, changed, coin = () => (Math.random() < 0.5 ? "reference" : "remake") }) {
    this.player = player;
    this.changed = changed;
    this.coin = coin;
    /** @type {Round[]} */
    this.rounds = [];
    /** The one that plays now.
     *  @type {Which | null} */
    this.playing = null;
  }

  get isOn() {
    return this.playing !== null;
  }

  begin() {
    const { player } = this;
    this.rounds = [];
    player.isHidden = true;
    player.setEqual(true);
    player.setTurns(0);
    if (!player.loop) player.toggleLoop();
    this.#next();
  }

  /** A test that is given up has no rounds. */
  giveUp() {
    this.rounds = [];
    this.#end();
  }

  /** @param {Which} said */
  answer(said) {
    if (!this.playing) return;
    this.rounds.push({ played: this.playing, said });
    if (this.rounds.length < ROUNDS) this.#next();
    else this.#end();
  }

  #next() {
    const { player } = this;
    this.playing = this.coin();
    player.stop();
    player.hear(this.playing);
    player.seek(player.loop?.start ?? 0);
    player.play();
    this.changed();
  }

  #end() {
    this.playing = null;
    this.player.isHidden = false;
    this.player.stop();
    this.changed();
  }
}

/** The round that is asked, or the verdict; `way` says what of the tracks is heard.
 *  @param {HTMLElement} box
 *  @param {BlindTest} blind
 *  @param {string} way */
export function showBlind(box, blind, way) {
  const { rounds } = blind;
  box.replaceChildren();
  if (blind.isOn) {
    const tools = node("div", "device-tools");
    for (const [said, key] of /** @type {[Which, string][]} */ ([["reference", "R"], ["remake", "M"]])) {
      const one = button(`It is the ${said}`, () => blind.answer(said));
      one.setAttribute("aria-keyshortcuts", key);
      tools.append(one);
    }
    tools.append(button("Give up", () => blind.giveUp(), "btn btn-link"));
    box.append(node("p", "", `Blind test, round ${rounds.length + 1} of ${ROUNDS}: ${way}. Which one plays?`), tools);
  } else if (rounds.length === ROUNDS) {
    const list = node("ol", "blind-rounds");
    list.append(...rounds.map(({ played, said }) => node("li", "", `${played === said ? "✓" : "✗"} ${played}`)));
    box.append(node("p", "blind-verdict", `Blind test: ${way}. ${verdict(rounds)}`), list, button("Close", () => box.replaceChildren(), "btn btn-link"));
  }
}
