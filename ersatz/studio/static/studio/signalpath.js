// @ts-check
// The signal path of a sound: a tab for every block with its curve, one block open with its figures.

import { redrawCurve } from "./curves.js";
import { button, node } from "./dom.js";
import { svgOf } from "./draw.js";
import { choiceField, numberField, shown } from "./fields.js";
import { drawBlock } from "./soundcurves.js";

/** @typedef {import("./states").SoundState} SoundState */

export class SignalPath {
  /** `sound()` is what stands, `samples()` what its slots may play; `send` takes edits of the part, `preview(edit, drawn)` draws what one would.
   *  @param {{ tabs: HTMLElement, box: HTMLElement, sound: () => SoundState, samples: () => import("./states").SampleChoice[], partId: () => string,
   *    send: (edit: object) => Promise<void>, preview: (edit: object, drawn: (data: { sound: SoundState }) => void) => void, partName: () => string }} options */
  constructor({ tabs, box, sound, samples, partId, partName, send, preview }) {
    this.tabs = tabs;
    this.box = box;
    this.sound = sound;
    this.samples = samples;
    this.partId = partId;
    this.partName = partName;
    this.send = send;
    this.preview = preview;
    /** Id of the block that is open. */
    this.open = Object.keys(sound().blocks)[0];
  }

  draw() {
    this.#drawTabs();
    this.#drawOpen();
  }

  /** @param {string} id
   *  @param {string} name */
  #value(id, name) {
    return this.sound().blocks[id].params.find((p) => p.name === name)?.value ?? 0;
  }

  /** @param {string} id
   *  @param {string} end */
  #picked(id, end) {
    return this.sound().blocks[id].choices.find((c) => c.name.endsWith(end))?.value ?? "";
  }

  /** What a block says of itself beneath its curve.
   *  @param {string} id */
  #summary(id) {
    const sound = this.sound(), { kind, number } = sound.blocks[id], slices = sound.pictures.slices;
    const value = (/** @type {string} */ name) => this.#value(id, name), picked = (/** @type {string} */ end) => this.#picked(id, end);
    /** @type {Record<string, () => string>} */
    const says = {
      oscillator: () => (value(`${id}_level`) ? `${picked("wave")}${value(`${id}_voices`) > 1 ? ` × ${value(`${id}_voices`)}` : ""}` : "silent"),
      filter: () => picked("kind"),
      sample: () => (sound.gone.length ? "gone" : picked("direction")),
      time: () => (value("time_beats") ? `${shown(value("time_beats"))} beats` : picked("time_mode")),
      loop: () => picked("mode"),
      slices: () => (picked("mode") === "off" ? "off" : `${picked("mode")}${slices ? `: ${slices.length - 1}` : ""}`),
      mix: () => (value("drive") ? `drive ${value("drive").toFixed(2)}` : "clean"),
      notes: () => picked("mode"),
      lfo: () => (picked("rate") === "Hz" ? `${value(`${id}_hz`).toPrecision(2)} Hz` : picked("rate")),
    };
    // The first envelope is the level's; what moves nothing says so.
    const isSource = kind === "lfo" || (kind === "envelope" && number !== 1);
    if (isSource && !sound.modulations.some((m) => m.source === `${kind} ${number}`)) return "unused";
    return says[kind]?.() ?? "";
  }

  /** @param {string} id */
  #openBlock(id) {
    this.open = id;
    this.draw();
    /** @type {HTMLElement | null} */ (this.tabs.querySelector("[aria-selected=true]"))?.focus();
  }

  #drawTabs() {
    const { blocks } = this.sound(), ids = Object.keys(blocks);
    if (!ids.includes(this.open)) [this.open] = ids;
    this.tabs.hidden = ids.length < 2;
    const tabs = ids.map((id) => {
      const tab = button("", () => this.#openBlock(id), "stage"), svg = svgOf("mini");
      tab.setAttribute("role", "tab");
      tab.setAttribute("aria-selected", String(id === this.open));
      tab.tabIndex = id === this.open ? 0 : -1;
      svg.setAttribute("aria-hidden", "true");
      tab.append(node("b", "", blocks[id].title), svg, node("small", "", this.#summary(id)));
      tab.addEventListener("keydown", (event) => {
        const by = event.key === "ArrowRight" ? 1 : event.key === "ArrowLeft" ? -1 : 0;
        if (!by) return;
        event.preventDefault();
        this.#openBlock(ids[(ids.indexOf(id) + by + ids.length) % ids.length]);
      });
      return { tab, svg };
    });
    this.tabs.replaceChildren(...tabs.map(({ tab }) => tab));
    tabs.forEach(({ svg }, i) => drawBlock(svg, ids[i], this.sound()));
  }

  /** @returns {import("./soundcurves.js").BlockApi} */
  get #api() {
    const value = (/** @type {string} */ name, /** @type {number} */ v) => ({ kind: "set_sound_value", part: this.partId(), name, value: v });
    return {
      set: (name, v) => this.send(value(name, v)),
      // What one gesture changes is one step back.
      setAll: (values) => {
        const edits = Object.entries(values).map(([name, v]) => value(name, v));
        const said = this.sound().blocks[this.open].params.filter((p) => p.name in values).map((p) => `${p.title} ${shown(values[p.name])}${p.unit && ` ${p.unit}`}`);
        if (edits.length === 1) this.send(edits[0]);
        else if (edits.length) this.send({ kind: "several", said: `${this.partName()}: ${said.join(", ")}`, edits });
      },
      preview: (name, v) => this.preview(value(name, v), (data) => redrawCurve(this.box, (svg) => drawBlock(svg, this.open, data.sound))),
      shape: (name, points) => this.send({ kind: "set_shape", name, points }),
    };
  }

  #drawOpen() {
    const { choices, params, title } = this.sound().blocks[this.open], api = this.#api;
    const svg = svgOf("large"), fields = node("div", "fields");
    svg.setAttribute("aria-label", `${title}, curve`);
    svg.setAttribute("role", "group");
    fields.append(
      ...choices.map((c) => choiceField(c, (option) => this.send({ kind: "set_sound_choice", name: c.name, option }))),
      ...this.#slotFields(),
      ...params.map((p) => numberField(p, (v) => api.set(p.name, v), (v) => api.preview(p.name, v))),
    );
    this.box.replaceChildren(svg, fields);
    const has = Object.keys(this.sound().pictures).length && drawBlock(svg, this.open, this.sound(), api);
    if (!has) svg.remove();
  }

  /** Which of the producer's samples a slot of the open block plays. */
  #slotFields() {
    const sound = this.sound(), { kind } = sound.blocks[this.open];
    const slot = kind === "sample" ? "sample" : kind === "oscillator" && this.#picked(this.open, "wave") === "own table" ? `${this.open}_table` : null;
    if (!slot) return [];
    const sha = sound.samples[slot] ?? "", samples = this.samples();
    /** @type {[string, string][]} */
    const options = samples.map((s) => [s.sha, s.name]);
    if (!samples.some((s) => s.sha === sha)) options.unshift([sha, sha ? "gone" : "none yet"]);
    return [choiceField({ name: `slot-${slot}`, title: slot === "sample" ? "Sample" : "Table from", options, value: sha }, (picked) => {
      const chosen = samples.find((s) => s.sha === picked);
      if (chosen) this.send({ kind: "set_sample", slot, sample: chosen.sha, name: chosen.name });
    })];
  }
}
