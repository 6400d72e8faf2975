// @ts-check
// The strip in hand: its figures, its output, its sends.

import { button, node } from "./dom.js";
import { choiceField, numberField } from "./fields.js";

/** A strip as the Balance page has it (ersatz/studio/balance/state.py).
 *  @typedef {{ id: string, name: string, kind: "part" | "bus" | "return" | "master", role: string, out: string, figures: Record<string, number>, mute: boolean,
 *    duck: { curve: string, depth_db: number } | null, sends: Record<string, { db: number, before_fader: boolean }>, cuts: number[] | null,
 *    eq: { hz: number, gain_db: number, q: number }[], effects: any[], href: string }} Strip */
/** @typedef {{ strips: Strip[], master: { lowCutHz: number, ceilingDbtp: number, targetLufs: number | null } }} Mix */
/** What the hands do with a strip: held, and set.
 *  @typedef {{ drag: (id: string, figures: Record<string, number>) => void, set: (id: string, figures: Record<string, number>) => void,
 *    cut: (id: string, cut: { which: string }, hz: number, isDone: boolean) => void, nearSend: (id: string, to: string) => void,
 *    send: (id: string, to: string, level: { db?: number, before_fader?: boolean }, isDone: boolean) => void }} Act */
/** @typedef {import("./fields.js").Figure} Figure */

const CLOSED_DB = -60;

/** @param {Element} box
 *  @param {{ strip: Strip, state: Mix, values: Record<string, Figure>, masterValues: Record<string, Figure>, act: Act, send: (edit: object) => void }} options */
export function stripFigures(box, { strip, state, values, masterValues, act, send }) {
  const field = (/** @type {string} */ name, /** @type {string} */ title) => numberField({ ...values[name], name: `strip-${name}`, title, value: strip.figures[name], step: 0 }, (v) => act.set(strip.id, { [name]: v }), (v) => act.drag(strip.id, { [name]: v }));
  box.replaceChildren(field("gain_in_db", "Gain in"), field("gain_db", "Fader"), field("pan", "Pan"), field("width", "Width"), field("mono_below_hz", "Mono below"));
  if (strip.kind === "part") box.append(...["low", "high"].map((which, i) => numberField(
    { name: `strip-${which}-cut`, title: which === "low" ? "Low cut" : "High cut", unit: "Hz", low: 0, high: 20000, value: strip.cuts?.[i] ?? 0, scale: "linear", step: 0 },
    (v) => act.cut(strip.id, { which }, v, true), (v) => act.cut(strip.id, { which }, v, false),
  )));
  if (strip.kind === "master") {
    for (const [name, value] of /** @type {[string, number][]} */ ([["low_cut_hz", state.master.lowCutHz], ["ceiling_dbtp", state.master.ceilingDbtp], ["target_lufs", state.master.targetLufs ?? masterValues.target_lufs.value]])) box.append(
      numberField({ ...masterValues[name], name: `master-${name}`, value, step: 0 }, (v) => send({ kind: "set_master", name, value: v })),
    );
    return;
  }
  const targets = state.strips.filter((s) => (s.kind === "bus" || s.kind === "master") && s.id !== strip.id);
  box.append(choiceField({ name: "strip-out", title: "Output", options: targets.map((s) => s.name), value: targets.find((s) => s.id === strip.out)?.name }, (name) => send({ kind: "set_output", strip: strip.id, out: targets.find((s) => s.name === name)?.id })));
}

/** @param {Element} box
 *  @param {{ strip: Strip, state: Mix, act: Act, high: number }} options */
export function stripSends(box, { strip, state, act, high }) {
  box.replaceChildren();
  if (strip.kind === "master") return;
  for (const to of state.strips.filter((s) => s.kind === "return" && s.id !== strip.id)) {
    const now = strip.sends[to.id] ?? { db: CLOSED_DB, before_fader: false }, row = node("div", "send-row");
    row.append(
      numberField({ name: `send-${to.id}`, title: `Send to ${to.name}`, unit: "dB", low: CLOSED_DB, high, value: now.db, scale: "linear", step: 0 }, (db) => act.send(strip.id, to.id, { db }, true), (db) => act.send(strip.id, to.id, { db }, false)),
    );
    const before = button(now.before_fader ? "before fader" : "after fader", () => act.send(strip.id, to.id, { before_fader: !now.before_fader }, true));
    before.setAttribute("aria-label", `${now.before_fader ? "before fader" : "after fader"}: send to ${to.name}`);
    for (const type of ["pointerenter", "focusin"]) row.addEventListener(type, () => act.nearSend(strip.id, to.id));
    before.disabled = now.db <= CLOSED_DB;
    row.append(before);
    box.append(row);
  }
}
