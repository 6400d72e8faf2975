// @ts-check
// Drafts from other seeds beside the song: told apart at a glance, heard in place of it, taken.

import { button, node } from "./dom.js";
import { el } from "./draw.js";
import { hearWith } from "./hearing.js";
import { post } from "./http.js";
import { TICKS_PER_BAR } from "./vocabulary.js";

/** @typedef {import("./states").DraftRow} DraftRow */
/** @typedef {[number, number, number]} Sketched */

const WIDTH = 220, HEIGHT = 46, BARS = 8, LEAST_SEMITONES = 12;

/** Rectangles of notes as [tick, length, MIDI] in a box, from left to right over eight bars and from the lowest to the highest of them.
 *  @param {Sketched[]} notes
 *  @param {{ width: number, top: number, height: number }} box
 *  @returns {{ x: number, y: number, width: number, height: number }[]} */
export function sketched(notes, { width, top, height }) {
  if (!notes.length) return [];
  const pitches = notes.map(([, , midi]) => midi), low = Math.min(...pitches), span = Math.max(LEAST_SEMITONES, Math.max(...pitches) - low), thick = 2;
  const x = (/** @type {number} */ tick) => (tick / (BARS * TICKS_PER_BAR)) * width;
  return notes.map(([tick, ticks, midi]) => ({
    x: x(tick), y: top + (height - thick) * (1 - (midi - low) / span), width: Math.max(1, x(Math.min(ticks, BARS * TICKS_PER_BAR - tick)) - 0.5), height: thick,
  }));
}

export class OtherDrafts {
  /** `take` is told what the server answers once a draft has taken the song's place.
   *  @param {{ box: HTMLElement, player: import("./player.js").Player, song: () => { revision: number, listen: string }, taken: () => void }} options */
  constructor({ box, player, song, taken }) {
    this.box = box;
    this.player = player;
    this.song = song;
    this.taken = taken;
    /** @type {import("./states").DraftRows | null} */
    this.rows = null;
    /** The draft that is heard, null for the song.
     *  @type {number | null} */
    this.heard = null;
    this.list = /** @type {HTMLElement} */ (box.querySelector(".drafts"));
    this.says = /** @type {HTMLElement} */ (box.querySelector(".says"));
    this.form = /** @type {HTMLFormElement} */ (box.querySelector("form"));
    box.addEventListener("toggle", () => this.look());
    this.form.addEventListener("submit", (event) => {
      if (/** @type {HTMLButtonElement | null} */ (event.submitter)?.name !== "beside") return;
      event.preventDefault();
      this.#add();
    });
  }

  async look() {
    if (this.rows || !(/** @type {HTMLDetailsElement} */ (this.box).open)) return;
    const answer = await fetch(/** @type {string} */ (this.box.dataset.url)).catch(() => null);
    if (answer?.ok) this.#show(await answer.json());
  }

  /** The song is another one: what is heard is it. */
  reset() {
    this.heard = null;
    this.draw();
  }

  async #add() {
    this.says.textContent = "Drafting …";
    const { ok, data } = await post(/** @type {string} */ (this.box.dataset.add), new FormData(this.form));
    this.says.textContent = ok ? "" : data.error;
    if (!ok) return;
    this.#show(data);
    const last = this.rows?.drafts.at(-1);
    if (last) this.#hear(last);
  }

  /** @param {import("./states").DraftRows} rows */
  #show(rows) {
    this.rows = rows;
    this.draw();
  }

  draw() {
    if (!this.rows) return;
    const { drafts, most } = this.rows, add = /** @type {HTMLButtonElement} */ (this.form.querySelector("[name=beside]"));
    add.disabled = drafts.length >= most;
    add.dataset.tip = add.disabled ? `${most} are kept beside this one: remove one first` : "";
    const rows = drafts.map((draft) => this.#row(draft));
    if (drafts.length) rows.unshift(this.#now());
    this.list.replaceChildren(...rows);
  }

  /** The song itself, to compare with. */
  #now() {
    const item = node("li"), hear = button("Hear", () => this.#hear(null));
    hear.setAttribute("aria-pressed", String(this.heard === null));
    hear.setAttribute("aria-label", "Hear the song as it stands");
    item.append(node("b", "", "As it stands"), hear);
    return item;
  }

  /** @param {DraftRow} draft */
  #row(draft) {
    const item = node("li"), name = `draft ${draft.seed}`, words = node("div");
    const picture = el("svg", { viewBox: `0 0 ${WIDTH} ${HEIGHT}`, width: WIDTH, height: HEIGHT, role: "img", "aria-label": `Hook and bass of ${name} over eight bars` });
    for (const [notes, box, kind] of /** @type {[Sketched[], { width: number, top: number, height: number }, string][]} */ ([
      [draft.hook, { width: WIDTH, top: 1, height: 26 }, "hook"], [draft.bass, { width: WIDTH, top: 30, height: 15 }, "bass"],
    ])) for (const r of sketched(notes, box)) picture.append(el("rect", { ...r, class: kind }));
    words.append(node("b", "", `Draft ${draft.seed}`), node("span", "", draft.chords), node("span", "soft", draft.said));
    const hear = button("Hear", () => this.#hear(draft)), take = button("Take it", () => this.#take(draft)), drop = button("Remove", () => this.#drop(draft), "btn btn-link");
    hear.setAttribute("aria-pressed", String(this.heard === draft.id));
    for (const [one, word] of /** @type {[HTMLElement, string][]} */ ([[hear, "Hear"], [take, "Take"], [drop, "Remove"]])) one.setAttribute("aria-label", `${word} ${name}`);
    item.append(picture, words, hear, take, drop);
    return item;
  }

  /** The main section looped, of a draft or of the song, equally loud.
   *  @param {DraftRow | null} draft */
  async #hear(draft) {
    const bars = draft?.bars ?? this.rows?.drafts[0]?.bars;
    if (!bars || this.player.isHidden) return;
    this.heard = draft?.id ?? null;
    this.draw();
    await hearWith(this.player, bars, this.song().listen, draft && { ask: draft.ask }, () => this.heard === (draft?.id ?? null));
  }

  /** @param {DraftRow} draft */
  async #take(draft) {
    const { ok, data } = await post(draft.url, { revision: this.song().revision });
    this.says.textContent = ok ? "" : data.error;
    if (ok) this.taken();
  }

  /** @param {DraftRow} draft */
  async #drop(draft) {
    const { ok, data } = await post(draft.url, {}, { method: "DELETE" });
    this.says.textContent = ok ? "" : data.error;
    if (!ok) return;
    if (this.heard === draft.id) this.#hear(null);
    this.#show(data);
  }
}
