// @ts-check
// The strip in hand: its name and what is done with it whole, its figures, its output, its sends.

import { button, menu, node, row } from "./dom.js";
import { choiceField, numberField } from "./fields.js";
import { tip } from "./tips.js";
import { editTitle } from "./title.js";
import { LIMITS } from "./vocabulary.js";

/** @typedef {import("./states").StripState} Strip */
/** @typedef {{ strips: Strip[], master: import("./states").MasterState }} Mix */
/** What the hands do with a strip: held, and set.
 *  @typedef {{ drag: (id: string, figures: Record<string, number>) => void, set: (id: string, figures: Record<string, number>) => void,
 *    cut: (id: string, cut: { which: string }, hz: number, isDone: boolean) => void, nearSend: (id: string, to: string) => void,
 *    send: (id: string, to: string, level: { db?: number, before_fader?: boolean }, isDone: boolean) => void }} Act */
/** @typedef {import("./fields.js").Figure} Figure */

/** Its name, and what is done with it whole. `together`: the strips that a new bus takes.
 *  @param {Element} box
 *  @param {{ strip: Strip, together: Strip[], send: import("./edits.js").Send, isLocked: boolean, lock: () => void }} options */
export function stripHead(box, { strip, together, send, isLocked, lock }) {
  const name = node("span", "own", strip.name), tools = node("span", "tool right");
  box.replaceChildren(name, node("span", "soft", { part: strip.role, bus: "bus", return: "return", master: "" }[strip.kind]), tools);
  if (strip.href) tools.append(Object.assign(node("a", "btn btn-tool", "Its sound"), { href: strip.href }));
  if (strip.kind === "bus" || strip.kind === "return") tools.append(
    button("Rename", () => editTitle(name, strip.name, (title) => send({ kind: "rename_strip", strip: strip.id, name: title }))),
    button("Delete", () => send({ kind: "delete_strip", strip: strip.id }), "btn btn-link"),
  );
  if (strip.kind === "part" || strip.kind === "master") {
    const toggle = button(isLocked ? "Locked" : "Lock", lock);
    toggle.setAttribute("aria-pressed", String(isLocked));
    tip(toggle, "Balance for me leaves it as it is");
    tools.append(toggle);
  }
  if (strip.kind === "part" || strip.kind === "bus") {
    const group = button(together.length > 1 ? `Group ${together.length} strips` : "Add a bus", () => send({ kind: "add_bus", name: `${strip.name} bus`, of: together.map((s) => s.id), out: strip.out }));
    tip(group, `A bus of ${together.map((s) => s.name).join(", ")}`);
    tools.append(group);
  }
  if (strip.kind === "return") tools.append(menu("Add a return", ["reverb", "delay"].map((space) => row(space[0].toUpperCase() + space.slice(1), () => send({ kind: "add_return", name: `${space[0].toUpperCase()}${space.slice(1)} 2`, space })))));
}

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
  box.append(choiceField({ name: "strip-out", title: "Output", options: targets.map((s) => [s.id, s.name]), value: strip.out }, (out) => send({ kind: "set_output", strip: strip.id, out })));
}

/** @param {Element} box
 *  @param {{ strip: Strip, state: Mix, act: Act, high: number }} options */
export function stripSends(box, { strip, state, act, high }) {
  box.replaceChildren();
  if (strip.kind === "master") return;
  for (const to of state.strips.filter((s) => s.kind === "return" && s.id !== strip.id)) {
    const now = strip.sends[to.id] ?? { db: LIMITS.closedDb, before_fader: false }, line = node("div", "send-row");
    line.append(
      numberField({ name: `send-${to.id}`, title: `Send to ${to.name}`, unit: "dB", low: LIMITS.closedDb, high, value: now.db, scale: "linear", step: 0 }, (db) => act.send(strip.id, to.id, { db }, true), (db) => act.send(strip.id, to.id, { db }, false)),
    );
    const before = button(now.before_fader ? "before fader" : "after fader", () => act.send(strip.id, to.id, { before_fader: !now.before_fader }, true));
    before.setAttribute("aria-label", `${now.before_fader ? "before fader" : "after fader"}: send to ${to.name}`);
    for (const type of ["pointerenter", "focusin"]) line.addEventListener(type, () => act.nearSend(strip.id, to.id));
    before.disabled = now.db <= LIMITS.closedDb;
    line.append(before);
    box.append(line);
  }
}
