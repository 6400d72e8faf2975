// @ts-check
// What a part can be given: sounds shipped and saved, heard before they are loaded, and the producer's own samples.

import { button, byId, dataOf, inputById, node, selectById } from "./dom.js";
import { keptFocus } from "./focus.js";
import { post } from "./http.js";
import { described, fits, soundRow } from "./soundpicker.js";
import { variantUrl } from "./variant.js";

/** @typedef {import("./states").BrowserState} BrowserState */
/** @typedef {import("./states").SampleChoice} SampleChoice */
/** What was read of a sample's loop, and the edits that fit it to the song.
 *  @typedef {{ said: string, fits: object, fitsKey: object, key: string }} Reading */

/** Longer addresses are cut by web servers. */
const MOST_ADDRESS = 3800;
/** Samples of these lengths may be loops, s. */
const SHORTEST_LOOP_S = 0.8, LONGEST_LOOP_S = 60;

export class SoundLibrary {
  /** `state()` is what stands; `send` takes edits of the part; `heard()` plays it as it is; `changed()` is told when there is more or less to choose
   *  from, `opened(block)` when a block of the sound is wanted.
   *  @param {{ browser: BrowserState, host: HTMLElement, says: HTMLElement, player: import("./player.js").Player, pads: import("./pads.js").Pads, state: () => import("./states").PartState,
   *    send: (edit: object) => Promise<void>, heard: () => void, changed: () => void, opened: (block: string) => void }} options */
  constructor({ browser, host, says, player, pads, state, send, heard, changed, opened }) {
    this.browser = browser;
    this.host = host;
    this.says = says;
    this.player = player;
    this.pads = pads;
    this.state = state;
    this.send = send;
    this.heard = heard;
    this.changed = changed;
    this.opened = opened;
    /** Name of the sound that plays in the loop for now.
     *  @type {string | null} */
    this.auditioned = null;
    /** @type {Map<number, Reading>} */
    this.readings = new Map();
    this.#controls();
  }

  /** What can be loaded, with what the part has marked. */
  draw() {
    this.#sounds();
    this.#samples();
  }

  /** The server's answer to what changes what there is.
   *  @param {{ ok: boolean, data: any }} answer */
  take({ ok, data }) {
    this.says.textContent = ok ? "" : data.error;
    if (!ok) return;
    this.browser = data;
    this.draw();
    this.changed();
  }

  #controls() {
    const role = selectById("by-role"), tone = selectById("by-tone"), files = inputById("sample-file"), box = byId("samples-box");
    const roles = [...new Set(this.browser.sounds.map((s) => s.role))];
    role.append(new Option("any", ""), ...roles.map((r) => new Option(r, r, false, r === this.browser.role)));
    for (const one of [role, tone]) one.addEventListener("change", () => this.#sounds());
    byId("by-text").addEventListener("input", () => this.#sounds());
    files.addEventListener("change", async () => {
      await this.#bring([...(files.files ?? [])]);
      files.value = "";
    });
    for (const name of /** @type {("dragenter" | "dragover")[]} */ (["dragenter", "dragover"])) box.addEventListener(name, (event) => {
      if (!event.dataTransfer?.types.includes("Files")) return;
      event.preventDefault();
      box.classList.add("over");
    });
    for (const name of ["dragleave", "drop"]) box.addEventListener(name, () => box.classList.remove("over"));
    box.addEventListener("drop", (event) => {
      event.preventDefault();
      this.#bring([...(event.dataTransfer?.files ?? [])]);
    });
  }

  /** A row of the list, with what is the part's own marked, and what is the producer's own to be deleted.
   *  @param {{ name: string, listen: string }} sound
   *  @param {{ more: string, taken: boolean, take: [string, string, () => void], forget?: (() => void) | null, also?: Node | null }} options */
  #row(sound, { taken, forget, also, ...row }) {
    const item = soundRow(sound, { play: (listen, name) => this.#audition(listen, name), ...row });
    if (taken) item.className = "taken";
    if (also) item.append(also);
    if (forget) {
      const away = button("×", forget, "btn btn-link btn-square");
      away.setAttribute("aria-label", `Delete ${sound.name}`);
      item.append(away);
    }
    return item;
  }

  /** @param {{ forget: string }} kept */
  async #forget({ forget }) {
    const { part, remake } = this.state();
    this.take(await post(forget, { role: part.role, remake }));
  }

  /** A sound by itself; in the running loop where it plays, until it is played once more or another change is made.
   *  @param {string} listen
   *  @param {string} name */
  #audition(listen, name) {
    const { part, bars, listen: song } = this.state(), sound = this.browser.sounds.find((s) => s.listen === listen);
    const edit = sound && { kind: "load_sound", part: part.id, ...(sound.id ? { sound: sound.sound } : { shipped: sound.name }) };
    const url = edit && this.player.isPlaying ? variantUrl(song, { edit }) : "";
    if (!url || url.length > MOST_ADDRESS) {
      this.pads.playUrl(listen).catch(() => { this.says.textContent = `“${name}” could not be loaded. Is Ersatz still running?`; });
      return;
    }
    this.auditioned = this.auditioned === name ? null : name;
    if (this.auditioned) this.player.replaceRemake(url, { bars });
    else this.heard();
    this.#sounds();
  }

  #sounds() {
    const role = selectById("by-role").value, tone = selectById("by-tone").value, find = inputById("by-text").value.trim().toLowerCase();
    const found = this.browser.sounds.filter((s) => (!role || s.role === role) && (!tone || s.brightness === tone) && (!find || fits(s, s.role, find)));
    byId("sounds").replaceChildren(...found.map((s) => {
      const { id } = s;
      return this.#row(s, {
        more: s.name === this.auditioned ? "in the loop now; press again for the part’s own" : described(s),
        taken: s.name === this.state().sound.name,
        take: ["Load", `Load ${s.name}`, () => this.send({ kind: "load_sound", ...(id ? { sound: s.sound } : { shipped: s.name }) })],
        forget: s.forget ? () => this.#forget(s) : null,
      });
    }));
    if (!found.length) byId("sounds").textContent = "No sound fits. Another role or tone?";
  }

  #samples() {
    const focused = keptFocus(), { samples } = this.browser, { sample: sha } = this.state().sound.samples;
    byId("samples").replaceChildren(...samples.map((s) => this.#row(s, {
      more: s.seconds < 1 ? `${Math.round(s.seconds * 1000)} ms` : `${s.seconds.toFixed(2)} s`,
      taken: s.sha === sha,
      take: ["Load", `Load ${s.name} into this part`, () => {
        this.opened("sample");
        this.send({ kind: "set_sample", slot: "sample", sample: s.sha, name: s.name });
      }],
      also: s.seconds >= SHORTEST_LOOP_S && s.seconds <= LONGEST_LOOP_S && s.sha === sha ? this.#loopTools(s) : null,
      forget: async () => {
        await this.#forget(s);
        // What the part plays has changed without an edit.
        if (Object.values(this.state().sound.samples).includes(s.sha)) location.reload();
      },
    })));
    byId("no-samples").hidden = samples.length > 0;
    focused();
  }

  /** A loop's own tempo and key, and the ways to fit it to the song: for the sample that the part plays.
   *  @param {SampleChoice} sample */
  #loopTools(sample) {
    const box = node("div", "loop-tools"), known = this.readings.get(sample.id);
    if (known) box.append(node("small", "", known.said), button("Fit to the tempo", () => this.send(known.fits)), button(`and into ${known.key}`, () => this.send(known.fitsKey)));
    else box.append(button("Read its tempo and key", () => this.#read(sample), "btn btn-link"));
    return box;
  }

  /** @param {SampleChoice} sample */
  async #read(sample) {
    byId("samples-say").textContent = `reading ${sample.name}`;
    const answer = await fetch(`${dataOf(this.host, "home")}${this.state().part.id}/loop/${sample.id}/`), data = await answer.json();
    byId("samples-say").textContent = "";
    if (answer.ok) this.readings.set(sample.id, data);
    else this.says.textContent = data.error ?? "The sample could not be read.";
    this.#samples();
  }

  /** @param {File[]} files */
  async #bring(files) {
    const { part, remake } = this.state();
    for (const file of files) {
      const body = new FormData();
      body.append("file", file);
      body.append("role", part.role);
      body.append("remake", String(remake));
      byId("samples-say").textContent = `reading ${file.name}`;
      const answer = await post(dataOf(this.host, "samples"), body);
      byId("samples-say").textContent = "";
      this.take(answer);
      if (!answer.ok) return;
    }
  }
}
