// @ts-check
// A strip's effects in order: cards that are dragged, switched off at matched loudness, opened, changed, deleted. Works on any strip.

import { drawEffect, redrawCurve } from "./curves.js";
import { button, mark, node } from "./dom.js";
import { fresh, minus, svgOf, text } from "./draw.js";
import { choiceField, numberField, shown } from "./fields.js";
import { keptFocus } from "./focus.js";
import { tip } from "./tips.js";

/** @typedef {import("./states").Effect} Effect */
/** @typedef {import("./states").EffectState} EffectState */
/** An effect to be: what is left out is as in NEW_EFFECT.
 *  @typedef {Partial<Effect> & { kind: string }} NewEffect */
/** Makes a chain from the one that stands.
 *  @typedef {(effects: Effect[]) => Effect[]} Make */

/** What fills the display of a gain reduction. */
const MOST_TAKEN_DB = 18;
const CHANNELS = ["both", "mid", "side"];
const DOCUMENT = /** @type {const} */ (["id", "kind", "params", "choices", "on", "blend", "above_hz", "below_hz", "channel", "shape", "sidechain", "bypass_db"]);
/** @type {Omit<Effect, "kind">} */
export const NEW_EFFECT = { id: "", params: {}, choices: {}, on: true, blend: 1, above_hz: 0, below_hz: 0, channel: "both", shape: [], sidechain: "", bypass_db: 0 };
/** Of an effect what the song keeps. */
export const documentOf = (/** @type {Effect} */ effect) => Object.fromEntries(DOCUMENT.map((name) => [name, effect[name]]));
/** Makes a chain whose effect `i` has become other: `by(effect)` says in what.
 *  @param {number} i
 *  @param {(effect: Effect) => Partial<Effect>} by
 *  @returns {Make} */
const changed = (i, by) => (effects) => effects.map((e, k) => (k === i ? { ...e, ...by(e) } : e));

export class ChainEditor {
  /** `effects()` of the strip in hand; `send(edit)` with the strip filled in; `preview(edit, drawn)` draws what an edit would; `bypassUrl(i)` says
   *  by how much an effect changes the loudness; `parts()` that may steer one: [id, name]; `ducker()`: the reference's curve as an effect, or null.
   *  @param {{ list: HTMLElement, panel: HTMLElement, effects: () => EffectState[], send: (make: () => object | null) => Promise<void>,
   *    preview: (edit: object, drawn: (data: { effects: EffectState[] }) => void) => void, bypassUrl: (i: number) => string,
   *    parts: () => string[][], ducker?: () => Effect | null }} options */
  constructor({ list, panel, effects, send, preview, bypassUrl, parts, ducker = () => null }) {
    this.list = list;
    this.panel = panel;
    this.effects = effects;
    this.send = send;
    this.preview = preview;
    this.bypassUrl = bypassUrl;
    this.parts = parts;
    this.ducker = ducker;
    /** Place of the effect whose panel is open. */
    this.open = 0;
  }

  /** `make(effects)` from those that stand when its turn comes. Automation goes with the effect of its id.
   *  @param {Make} make */
  set(make) {
    return this.send(() => ({ kind: "set_effects", effects: make(this.effects()).map(documentOf) }));
  }

  /** @param {string} kind */
  add(kind) {
    this.open = this.effects().length;
    return this.set((effects) => [...effects, { ...NEW_EFFECT, kind }]);
  }

  draw() {
    const focused = keptFocus();
    this.#drawList();
    this.#drawOpen();
    focused();
  }

  /** What the dynamics effects take away now, dB by effect's id; nothing where nothing plays.
   *  @param {Record<string, number | undefined>} taken */
  showTaken(taken) {
    for (const place of /** @type {NodeListOf<HTMLElement>} */ (this.list.querySelectorAll("[data-taken]"))) {
      const db = taken[place.dataset.taken ?? ""];
      place.style.setProperty("--taken", `${db === undefined ? 0 : Math.min(100, (Math.max(0, db) / MOST_TAKEN_DB) * 100)}%`);
      place.textContent = db === undefined ? "" : `${minus((-db).toFixed(1))} dB`;
    }
  }

  /** @param {number} i */
  async #switch(i) {
    const effect = this.effects()[i];
    if (!effect.on) return this.set(changed(i, () => ({ on: true })));
    // Bypassed at the loudness it had: only the sound is judged.
    const answer = await fetch(this.bypassUrl(i));
    const { db } = answer.ok ? await answer.json() : { db: 0 };
    return this.set(changed(i, () => ({ on: false, bypass_db: db })));
  }

  /** @param {number} from
   *  @param {number} to */
  #move(from, to) {
    if (to < 0 || to >= this.effects().length || to === from) return;
    this.open = to;
    this.set((effects) => {
      const list = [...effects];
      list.splice(to, 0, ...list.splice(from, 1));
      return list;
    });
  }

  #drawList() {
    const effects = this.effects();
    if (this.open >= effects.length) this.open = Math.max(0, effects.length - 1);
    const cards = effects.map((effect, i) => this.#card(effect, i));
    this.list.replaceChildren(...cards.map(({ item }) => item));
    cards.forEach(({ svg }, i) => {
      if (drawEffect(svg, effects[i])) return;
      // No curve tells what it does: its first option and value do.
      const { width } = fresh(svg);
      const { options, fields } = effects[i], first = fields[0];
      svg.append(text(width / 2, 22, options.length ? options[0].value : `${first.title} ${shown(first.value)}`, { class: "s", "text-anchor": "middle" }));
    });
    if (!effects.length) this.list.append(node("li", "soft", "None yet. Add one, or load a saved chain."));
  }

  /** @param {EffectState} effect
   *  @param {number} i */
  #card(effect, i) {
    const item = node("li", `device${effect.on ? "" : " off"}${i === this.open ? " open" : ""}`);
    item.draggable = true;
    item.addEventListener("dragstart", ({ dataTransfer }) => {
      if (!dataTransfer) return;
      dataTransfer.setData("text/plain", String(i));
      dataTransfer.effectAllowed = "move";
    });
    item.addEventListener("dragover", (event) => event.preventDefault());
    item.addEventListener("drop", (event) => { event.preventDefault(); this.#move(Number(event.dataTransfer?.getData("text/plain")), i); });
    const name = button(effect.title, () => { this.open = i; this.draw(); }, "device-name");
    name.setAttribute("aria-expanded", String(i === this.open));
    tip(name, "Open; Alt with the arrow keys moves it");
    name.addEventListener("keydown", (event) => {
      if (!event.altKey || !["ArrowLeft", "ArrowRight"].includes(event.key)) return;
      event.preventDefault();
      this.#move(i, i + (event.key === "ArrowLeft" ? -1 : 1));
    });
    const svg = svgOf("mini");
    svg.setAttribute("aria-hidden", "true");
    const on = button(effect.on ? "on" : "off", () => this.#switch(i));
    on.setAttribute("aria-pressed", String(effect.on));
    on.setAttribute("aria-label", `${effect.title} ${effect.on ? "on" : "off"}`);
    const taken = mark("taken", "");
    taken.dataset.taken = effect.id;
    item.append(name, svg, on, taken);
    return { item, svg };
  }

  #drawOpen() {
    const i = this.open, effect = this.effects()[i];
    this.panel.replaceChildren();
    if (!effect) return;
    const svg = svgOf("large"), fields = node("div", "fields");
    svg.setAttribute("aria-label", `${effect.title}, curve`);
    svg.setAttribute("role", "group");
    const param = (/** @type {Record<string, number>} */ part) => changed(i, (e) => ({ params: { ...e.params, ...part } }));
    const see = (/** @type {Make} */ make) => this.preview({ kind: "set_effects", effects: make(this.effects()).map(documentOf) }, (data) => redrawCurve(this.panel, (ghost) => drawEffect(ghost, data.effects[i])));
    const own = (/** @type {"blend" | "above_hz" | "below_hz"} */ name, /** @type {string} */ title, /** @type {string} */ unit, /** @type {number} */ low, /** @type {number} */ high) => numberField({ name: `effect-${name}`, title, unit, low, high, value: effect[name], scale: "linear", step: 0 }, (v) => this.set(changed(i, () => ({ [name]: v }))));
    // Of the eight bands only those in use show their figures.
    const used = (/** @type {string} */ name) => effect.kind !== "eq" || !name.startsWith("band") || effect.options.find((o) => o.name === `${name.slice(0, 5)}_kind`)?.value !== "off" || name.endsWith("_kind");
    fields.append(
      ...effect.options.map((o) => choiceField(effect.kind === "eq" && o.name.startsWith("band") ? { ...o, title: `Band ${o.name[4]}` } : o, (option) => this.set(changed(i, (e) => ({ choices: { ...e.choices, [o.name]: option } }))))),
      ...effect.fields.filter((f) => used(f.name)).map((f) => numberField(effect.kind === "eq" ? { ...f, title: `${f.name[4]}: ${f.title}` } : f, (v) => this.set(param({ [f.name]: v })), (v) => see(param({ [f.name]: v })))),
      own("blend", "Dry/wet", "", 0, 1),
      own("above_hz", "Crossover: above", "Hz", 0, 20000),
      own("below_hz", "Crossover: below", "Hz", 0, 20000),
      choiceField({ name: "effect-channel", title: "Works on", options: CHANNELS, value: effect.channel }, (channel) => this.set(changed(i, () => ({ channel: /** @type {Effect["channel"]} */ (channel) })))),
    );
    if (effect.hasSidechain) fields.append(this.#sidechain(effect, i));
    const line = node("div", "device-tools"), ducker = effect.kind === "ducker" ? this.ducker() : null;
    if (ducker) line.append(button("The reference’s curve", () => this.set(changed(i, (e) => ({ ...ducker, id: e.id, on: e.on, blend: e.blend })))));
    line.append(button("Move left", () => this.#move(i, i - 1)), button("Move right", () => this.#move(i, i + 1)), button("Delete", () => this.set((effects) => effects.filter((_, k) => k !== i)), "btn btn-link"));
    const right = node("div");
    right.append(fields, line);
    this.panel.append(svg, right);
    /** @type {import("./curves.js").EffectApi} */
    const api = { params: (p) => this.set(param(p)), preview: (p) => see(param(p)), shape: (shape) => this.set(changed(i, () => ({ shape }))) };
    if (!drawEffect(svg, effect, api)) svg.remove();
  }

  /** @param {EffectState} effect
   *  @param {number} i */
  #sidechain(effect, i) {
    const others = this.parts().map(([id, name]) => /** @type {[string, string]} */ ([id, name]));
    return choiceField({ name: "effect-sidechain", title: "Sidechain", options: [["", "itself"], ...others], value: effect.sidechain }, (sidechain) => this.set(changed(i, () => ({ sidechain }))));
  }
}
