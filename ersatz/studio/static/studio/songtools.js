// @ts-check
// Tempo, key and swing of the whole song.

import { button, node } from "./dom.js";
import { choiceField, numberField } from "./fields.js";
import { pitchNames } from "./pitches.js";
import { tip } from "./tips.js";
import { LIMITS, SCALES, TONICS } from "./vocabulary.js";

let transpose = true;

/** Fills `box`; `send` takes an edit.
 *  @param {HTMLElement} box
 *  @param {{ song: import("./sections.js").PlanSong, send: (edit: object) => void, redraw: () => void }} options */
export function songTools(box, { song, send, redraw }) {
  const [tonic, mode] = song.key, written = (/** @type {string} */ t) => pitchNames([t, mode])[TONICS.indexOf(t)];
  const summary = /** @type {HTMLElement} */ (box.querySelector("summary")), list = /** @type {HTMLElement} */ (box.querySelector("div"));
  summary.textContent = `${song.bpm} BPM, ${written(tonic)} ${mode}, swing ${song.swing} %`;
  const key = (/** @type {object} */ next) => send({ kind: "set_key", tonic, mode, transpose, ...next });
  const moves = button(transpose ? "with what is there" : "for what comes", () => { transpose = !transpose; redraw(); });
  moves.setAttribute("aria-pressed", String(transpose));
  tip(moves, "Whether a change of key transposes what is written already");
  list.replaceChildren(
    numberField({ name: "song-bpm", title: "Tempo", unit: "BPM", low: LIMITS.tempoBpm[0], high: LIMITS.tempoBpm[1], value: song.bpm, scale: "linear", step: 0 }, (bpm) => send({ kind: "set_tempo", bpm })),
    choiceField({ name: "song-tonic", title: "Key", options: TONICS.map((t) => [t, written(t)]), value: tonic }, (next) => key({ tonic: next })),
    choiceField({ name: "song-mode", title: "Mode", options: Object.keys(SCALES), value: mode }, (next) => key({ mode: next })),
    moves, numberField({ name: "song-swing", title: "Swing", unit: "%", low: LIMITS.swingPercent[0], high: LIMITS.swingPercent[1], value: song.swing, scale: "linear", step: 0 }, (percent) => send({ kind: "set_swing", swing_percent: percent })),
    node("span", "soft", "50 % is straight, 66.7 % a triplet; parts with a groove of their own keep it"),
  );
}
