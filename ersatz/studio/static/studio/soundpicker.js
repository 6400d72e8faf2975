// @ts-check
// Adding a part: sounds by role, searched and heard before one is taken. A sheet at the edge of the page, opened by `open()`.

import { button, inputBox, node } from "./dom.js";
import { ROLE_NAMES } from "./vocabulary.js";

/** @typedef {Pick<import("./states").ShippedSound, "name" | "kind" | "character" | "brightness">} Described */
/** `play(url, name)` lets a sound be heard, `take`: what its button says, what it is called, what it does.
 *  @typedef {{ more: string, play: (url: string, name: string) => void, take: [label: string, said: string, act: () => void] }} RowOptions */

/** What a sound is, behind its name.
 *  @param {Described} sound */
export const described = (sound) => [sound.kind, sound.character, sound.brightness].filter(Boolean).join(" · ");

/** True where every word of `find` is in the sound's name or description, or in its role's.
 *  @param {Described} sound
 *  @param {string} role
 *  @param {string} find */
export const fits = (sound, role, find) => {
  const said = `${sound.name} ${described(sound)} ${role} ${ROLE_NAMES[role] ?? ""}`.toLowerCase();
  return find.toLowerCase().split(/\s+/).every((word) => said.includes(word));
};

/** One sound or sample: played by its name, taken by its button.
 *  @param {{ name: string, listen: string }} sound
 *  @param {RowOptions} options */
export function soundRow({ name, listen }, { more, play, take: [label, said, act] }) {
  const item = node("li"), hear = button("", () => play(listen, name), "hear");
  hear.append(node("span", "unseen", "Play "), node("b", "", name), node("span", "unseen", ", "), node("small", "", more));
  const get = button(label, act);
  get.setAttribute("aria-label", said);
  item.append(hear, get);
  return item;
}

export class SoundPicker {
  /** `sounds`: by role; `add(role, sound)` takes one; `play(url, name)` lets one be heard.
   *  @param {{ sounds: Record<string, import("./states").ShippedSound[]>, add: (role: string, sound: string) => void, play: RowOptions["play"] }} options */
  constructor({ sounds, add, play }) {
    this.sounds = sounds;
    this.add = add;
    this.play = play;
    this.role = "";
    this.sheet = node("div", "offcanvas offcanvas-end");
    Object.assign(this.sheet, { tabIndex: -1, id: "sound-picker" });
    this.sheet.setAttribute("aria-labelledby", "sound-picker-title");
    const head = node("div", "offcanvas-header"), title = node("h2", "offcanvas-title", "Add a part"), close = button("", () => this.panel.hide(), "btn-close");
    title.id = "sound-picker-title";
    close.setAttribute("aria-label", "Close");
    head.append(title, close);
    this.find = Object.assign(inputBox(), { type: "search", placeholder: "Search: sub, bright, clap …" });
    this.find.setAttribute("aria-label", "Search sounds");
    this.find.addEventListener("input", () => this.#list());
    this.roles = node("div", "role-tabs");
    this.roles.setAttribute("role", "group");
    this.roles.setAttribute("aria-label", "Role");
    this.list = node("div", "picker-list");
    const body = node("div", "offcanvas-body");
    body.append(this.find, this.roles, node("p", "soft", "A name plays the sound; Add gives it a row of its own, with an empty pattern."), this.list);
    this.sheet.append(head, body);
    document.body.append(this.sheet);
    this.panel = new bootstrap.Offcanvas(this.sheet, { scroll: true, backdrop: false });
    this.sheet.addEventListener("shown.bs.offcanvas", () => this.find.focus());
    this.#list();
  }

  open() {
    this.panel.show();
  }

  #list() {
    const roles = Object.keys(ROLE_NAMES).filter((role) => this.sounds[role]?.length);
    this.roles.replaceChildren(...["", ...roles].map((role) => {
      const one = button(role ? ROLE_NAMES[role] : "All", () => { this.role = role; this.#list(); });
      one.setAttribute("aria-pressed", String(role === this.role));
      return one;
    }));
    const groups = roles.filter((role) => !this.role || role === this.role)
      .map((role) => ({ role, found: this.sounds[role].filter((s) => fits(s, role, this.find.value.trim())) })).filter(({ found }) => found.length);
    this.list.replaceChildren(...groups.flatMap(({ role, found }) => {
      const list = node("ul", "sounds");
      list.append(...found.map((sound) => soundRow(sound, {
        more: described(sound), play: this.play, take: ["Add", `Add ${sound.name} as ${ROLE_NAMES[role]}`, () => this.add(role, sound.name)],
      })));
      return [node("h3", "", ROLE_NAMES[role]), list];
    }));
    if (!groups.length) this.list.append(node("p", "soft", "No sound fits. Another word or role?"));
  }
}
