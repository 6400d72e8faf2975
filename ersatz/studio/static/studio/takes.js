// @ts-check
// Playing in: pads, the computer's keys or a MIDI keyboard along the running loop, recorded with as much quantising as wanted.

import { button, node } from "./dom.js";
import { numberField } from "./fields.js";
import { keptFocus } from "./focus.js";
import { plainNote } from "./notespage.js";
import { Pads } from "./pads.js";

export class Takes {
  /** @param {{ box: HTMLElement, pads: HTMLElement, says: HTMLElement, player: import("./player.js").Player, page: import("./notespage.js").NotesPage }} options */
  constructor({ box, pads, says, player, page }) {
    this.box = box;
    this.player = player;
    this.page = page;
    /** How much of it is quantised, %. */
    this.amount = 100;
    this.taking = false;
    this.countIn = true;
    /** Id of the row that is played.
     *  @type {string | null} */
    this.row = null;
    /** Names of the MIDI keyboards. */
    this.connected = "";
    this.says = (/** @type {string} */ sentence) => { says.textContent = sentence; };
    this.pads = new Pads(pads, player, this.says);
    this.#midi();
  }

  draw() {
    const { page } = this, row = page.rowOf(), focused = keptFocus();
    this.box.replaceChildren();
    if (!row || !page.patternOf(row)) return;
    this.pads.show({ base: this.row === row.id ? undefined : row.middle, url: `${page.song.note}${row.id}/`, key: page.song.key, pitched: page.song.pitched || row.playsPitch, slices: row.slices });
    this.row = row.id;
    const toggle = (/** @type {string} */ title, /** @type {boolean} */ on, /** @type {() => void} */ act) => {
      const one = button(title, (event) => { act(); if (event.detail) one.blur(); });
      one.setAttribute("aria-pressed", String(on));
      return one;
    };
    this.box.append(
      toggle(this.taking ? `Stop, save to pattern ${page.nameOf(row)}` : "Record", this.taking, () => (this.taking ? this.#keep() : this.#begin())),
      toggle("Count in", this.countIn, () => { this.countIn = !this.countIn; this.draw(); }),
      toggle("Click", this.player.aids.click, () => { this.player.setAid({ click: !this.player.aids.click }); this.draw(); }),
      numberField({ name: "quantise", title: "Quantise", unit: "%", low: 0, high: 100, value: this.amount, scale: "linear", step: 5 }, (v) => { this.amount = v; }),
      ...(this.pads.pitched ? [button("Octave −", () => this.pads.octave(-1)), button("Octave +", () => this.pads.octave(1))] : []),
      node("span", "soft", this.connected ? `MIDI: ${this.connected}` : ""),
    );
    focused();
  }

  /** @param {import("./states").NoteRow} row
   *  @param {{ midi: number }} note */
  hearOne(row, note) {
    this.pads.playUrl(`${this.page.song.note}${row.id}/${note.midi}.flac`).catch(() => null);
  }

  async #begin() {
    this.taking = true;
    this.pads.record();
    this.says("");
    if (!this.player.isPlaying) {
      const section = this.page.sectionOf();
      if (!this.player.loop) this.player.toggleLoop();
      this.player.seek(section.start - 1);
      await this.player.play({ countIn: this.countIn });
    }
    this.draw();
  }

  /** What was played over the notes that are there already. */
  #keep() {
    this.taking = false;
    const { page } = this, row = page.rowOf(), pattern = row && page.patternOf(row), section = page.sectionOf();
    if (!pattern) return;
    this.pads.stop();
    const taken = this.pads.notes(section.start - 1, pattern.bars, page.grid, this.amount / 100);
    if (!taken.length) {
      this.says("nothing was played");
      this.draw();
      return;
    }
    const made = taken.map(plainNote), keys = new Set(made.map((n) => page.key(n)));
    this.says("");
    page.write(row, (notes) => [[...notes.filter((n) => !keys.has(page.key(n))), ...made], made], `${made.length} ${made.length === 1 ? "note" : "notes"} played in`);
  }

  /** Any MIDI keyboard that the browser lets us have. */
  async #midi() {
    if (!navigator.requestMIDIAccess) return;
    try {
      const access = await navigator.requestMIDIAccess();
      const listen = () => {
        const inputs = [...access.inputs.values()];
        this.connected = inputs.map((i) => i.name).join(", ");
        for (const input of inputs) input.onmidimessage = ({ data }) => {
          const [status, midi, velocity] = data ?? [0, 0, 0];
          const kind = status & 0xf0;
          if (kind === 0x90 && velocity > 0) this.pads.down(`midi${midi}`, midi, velocity / 127);
          else if (kind === 0x80 || kind === 0x90) this.pads.up(`midi${midi}`);
        };
        this.draw();
      };
      access.onstatechange = listen;
      listen();
    } catch {
      // Not allowed: the pads and the keys remain.
    }
  }
}
