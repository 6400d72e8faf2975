// @ts-check
// What was done, to be gone back to; saved versions, compared by ear; and the word when another window has gone on.

import { button, inputBox, node } from "./dom.js";
import { keptFocus } from "./focus.js";
import { isSaving } from "./saving.js";

const LOOK_EVERY_MS = 20_000;

export class History {
  /** `state()` is what stands; `send` takes what changes it; `player` plays versions.
   *  @param {{ list: HTMLElement, kept: HTMLElement, notice: HTMLElement, url: string, state: () => import("./states").Steps,
   *    send: import("./edits.js").Send, player: import("./player.js").Player }} options */
  constructor({ list, kept, notice, url, state, send, player }) {
    this.list = list;
    this.kept = kept;
    this.notice = notice;
    this.url = url;
    this.state = state;
    this.send = send;
    this.player = player;
    /** Id of the version that is heard.
     *  @type {number | null} */
    this.hearing = null;
    this.said = "";
    this.#watch();
  }

  draw() {
    const { history, revision, milestones } = this.state(), focused = keptFocus();
    this.list.replaceChildren(...history.map(([number, sentence]) => {
      const item = node("li");
      item.value = number;
      const go = button(sentence, () => this.send.returnTo(number), "btn btn-link");
      go.setAttribute("aria-label", `Return to ${number}: ${sentence}`);
      if (number === revision) go.setAttribute("aria-current", "true");
      if (number > revision) item.className = "undone";
      item.append(go);
      return item;
    }));
    const name = inputBox();
    Object.assign(name, { type: "text", maxLength: 60, placeholder: "before new lead" });
    name.setAttribute("aria-label", "Name of the version");
    const keep = button("Save version", () => { if (name.value.trim()) this.#do("keep", { name: name.value.trim() }); });
    name.addEventListener("keydown", (event) => { if (event.key === "Enter") keep.click(); });
    const form = node("p", "keep-form");
    form.append(name, keep);
    this.kept.replaceChildren(form, ...milestones.map((m) => this.#row(m)));
    if (!milestones.length) this.kept.append(node("p", "soft", "No versions saved yet. A saved version can be compared with the song as it is, and restored."));
    focused();
  }

  /** @param {import("./states").Version} version */
  #row({ id, name, listen }) {
    const row = node("div", "milestone"), hears = this.hearing === id;
    const hear = button(hears ? "Play current" : "Play", () => this.hear(hears ? null : { id, name, listen }));
    hear.setAttribute("aria-pressed", String(hears));
    hear.setAttribute("aria-label", hears ? "Play current" : `Play ${name}`);
    if (hears && this.said) row.append(node("span", "soft", this.said));
    row.prepend(node("b", "", name), hear, button("Restore", () => this.#do("take", { milestone: id })), button("Delete", () => this.#do("forget", { milestone: id }), "btn btn-link"));
    for (const [k, said] of /** @type {[number, string][]} */ ([[2, "Restore"], [3, "Delete"]])) row.children[k].setAttribute("aria-label", `${said} ${name}`);
    return row;
  }

  /** A version in the place of the song as it stands, from where the player is.
   *  @param {import("./states").Version | null} milestone */
  async hear(milestone) {
    this.hearing = milestone?.id ?? null;
    this.draw();
    if (!milestone) {
      this.player.replaceRemake(this.state().listen);
      return;
    }
    // Neither wins by being louder: the bars that are looped, or those under the playhead, are brought to one loudness.
    const { player } = this, from = Math.floor(player.loop?.start ?? Math.floor(player.position() / 8) * 8) + 1;
    const answer = await fetch(`${milestone.listen}than/${this.state().sha}/${from}-${from + 7}.json`).catch(() => null);
    const louderDb = answer?.ok ? (await answer.json()).db : 0;
    if (this.hearing !== milestone.id) return;
    player.replaceRemake(milestone.listen, { louderDb });
    this.said = `${milestone.name}: ${Math.abs(louderDb) < 0.05 ? "equally loud" : `turned ${louderDb > 0 ? "down" : "up"} by ${Math.abs(louderDb).toFixed(1)} dB, equally loud`}`;
    this.draw();
  }

  /** @param {string} what
   *  @param {Record<string, string | number>} fields */
  #do(what, fields) {
    this.send.post(`${this.url}milestones/${what}/`, fields);
  }

  /** Another window may have gone on: said as soon as this one is looked at again. */
  #watch() {
    const look = async () => {
      // What this window is changing itself is no news.
      if (document.hidden || isSaving()) return;
      const { revision } = this.state();
      try {
        const answer = await fetch(`${this.url}now/`), now = answer.ok ? await answer.json() : null;
        if (now && !isSaving() && this.state().revision === revision) this.#compare(now);
      } catch {
        // The server may be away for a moment; the next edit says so.
      }
    };
    window.addEventListener("focus", look);
    document.addEventListener("visibilitychange", look);
    setInterval(look, LOOK_EVERY_MS);
  }

  /** @param {{ revision: number, sha: string, sentence: string }} now */
  #compare({ revision, sha, sentence }) {
    const stands = this.state();
    document.getElementById("overtaken")?.remove();
    if (sha === stands.sha && revision === stands.revision) return;
    const box = node("div", "notice");
    box.id = "overtaken";
    box.setAttribute("role", "status");
    box.append(node("span", "", `This remake has changed in another window: ${sentence}.`), button("Reload", () => location.reload()));
    this.notice.after(box);
  }
}
