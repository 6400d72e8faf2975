// @ts-check
// How reference and remake are heard beside each other: level, band, middle or sides, loudspeaker, in turn, and blind.

import { BlindTest, showBlind } from "./blind.js";
import { button, node } from "./dom.js";
import { choiceField } from "./fields.js";
import { tip } from "./tips.js";
import { CHANNELS, SIX_BANDS, SPEAKERS } from "./ways.js";

/** @type {[string, string][]} */
const TURNS = [["0", "not in turn"], ["1", "in turn, every bar"], ["2", "in turn, every 2 bars"], ["4", "in turn, every 4 bars"]];
/** @type {[string, string][]} */
const LEVELS = [["equal", "equal loudness"], ["own", "as loud as they are"]];
/** @type {[string, string][]} */
const THROUGH = [["", "as it is"], .../** @type {[string, string][]} */ (Object.entries(SPEAKERS).map(([id, { title }]) => [id, `${title} (stand-in)`]))];

/** Fills `box`; the blind test is drawn in `test`. Gives what the keys do.
 *  @param {HTMLElement} box
 *  @param {HTMLElement} test
 *  @param {import("./player.js").Player} player
 *  @returns {Record<string, () => void>} */
export function listeningTools(box, test, player) {
  /** @type {Record<string, HTMLSelectElement>} */
  const choices = {};
  /** @param {string} name
   *  @param {string} title
   *  @param {string} key
   *  @param {[string, string][]} options
   *  @param {(value: string) => void} set */
  const choice = (name, title, key, options, set) => {
    const row = choiceField({ name: `listen-${name}`, title, options, value: options[0][0] }, (value) => { set(value); draw(); });
    choices[name] = /** @type {HTMLSelectElement} */ (row.querySelector("select"));
    choices[name].setAttribute("aria-keyshortcuts", key);
    tip(/** @type {HTMLElement} */ (row.firstElementChild), `Key ${key}: the next one`);
    return row;
  };
  const said = (/** @type {string} */ name) => choices[name].selectedOptions[0].text;
  const way = () => ["band", "channel", "speaker"].map(said).join(", ");
  const blind = new BlindTest({ player, changed: () => { showBlind(test, blind, way()); draw(); } });
  const start = button("Blind test", () => blind.begin());
  start.setAttribute("aria-keyshortcuts", "V");
  tip(start, "Twenty rounds over the loop: which one plays? (key V)");
  const note = node("small", "soft");
  note.setAttribute("role", "status");
  box.append(
    choice("level", "Level", "E", LEVELS, (v) => player.setEqual(v === "equal")),
    choice("band", "Band", "B", SIX_BANDS, (band) => player.setAid({ band })),
    choice("channel", "Channel", "C", CHANNELS, (channel) => player.setAid({ channel })),
    choice("speaker", "Through", "P", THROUGH, (speaker) => player.setAid({ speaker })),
    choice("turns", "Heard", "A", TURNS, (v) => player.setTurns(Number(v))),
    start, note,
  );

  function draw() {
    // What the test needs to be fair isn't changed within it; a press on one of the two ends the turns.
    for (const name of ["level", "turns"]) choices[name].disabled = blind.isOn;
    if (!player.inParallel) choices.turns.disabled = true;
    choices.level.value = player.isEqual ? "equal" : "own";
    choices.turns.value = String(player.turns.bars);
    start.disabled = blind.isOn;
    const speaker = SPEAKERS[player.aids.speaker];
    note.textContent = speaker ? `${speaker.tip}. Simulated.` : player.inParallel ? "" : "The two differ in tempo: they can’t take turns.";
  }
  player.watch("listening", () => { if (choices.turns.value !== String(player.turns.bars)) draw(); });
  draw();

  /** The next option of a choice, round and round.
   *  @param {string} name */
  const next = (name) => () => {
    const one = choices[name];
    if (one.disabled) return;
    one.selectedIndex = (one.selectedIndex + 1) % one.options.length;
    one.dispatchEvent(new Event("change"));
  };
  return {
    e: next("level"), b: next("band"), c: next("channel"), p: next("speaker"), a: next("turns"), v: () => { if (!blind.isOn) blind.begin(); },
    r: () => blind.answer("reference"), m: () => blind.answer("remake"), Escape: () => { if (blind.isOn) blind.giveUp(); },
  };
}
