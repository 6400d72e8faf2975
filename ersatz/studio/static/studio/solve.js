// @ts-check
// Balance for me: solved by the server in the background, shown as one list of what was changed, undone in one step.

import { button, menu, node, row } from "./dom.js";
import { follow, post, progressElement } from "./http.js";

export class Solver {
  /** `tools`, `progress`, `list`: places; `section()`: [its place, its name]; `locked`: ids of strips; `done()` when the song has changed.
   *  @param {{ tools: Element, progress: Element, list: HTMLElement, says: Element, home: string, section: () => [number, string], locked: Set<string>, done: () => Promise<void>, undo: () => void }} options */
  constructor({ tools, progress, list, says, home, section, locked, done, undo }) {
    this.progress = progress;
    this.list = list;
    this.says = says;
    this.home = home;
    this.section = section;
    this.locked = locked;
    this.done = done;
    this.undo = undo;
    this.draw(tools);
  }

  /** @param {Element} tools */
  draw(tools) {
    const [, name] = this.section();
    tools.replaceChildren(menu("Balance for me", [
      row("All sections: low cuts, levels, EQ, ducking, width, master", () => this.#run("")),
      row(`${name} alone: low cuts, levels and EQ of its parts`, () => this.#run(this.section()[0])),
    ], { name: "solve", className: "btn btn-primary" }));
  }

  /** @param {number | ""} section */
  async #run(section) {
    this.says.textContent = "";
    const { ok, data } = await post(`${this.home}solve/`, { section, locked: [...this.locked].join(",") });
    if (!ok) {
      this.says.textContent = data.error;
      return;
    }
    const place = progressElement("Balance", "Listen and change on: what you do meanwhile stays.");
    this.progress.replaceChildren(place);
    const job = await follow(data.job.url, place);
    this.progress.replaceChildren();
    if (job.state !== "done") {
      this.says.textContent = job.message;
      return;
    }
    await this.done();
    this.#show(job.changes);
  }

  /** @param {{ name: string, what: string, why: string }[]} changes */
  #show(changes) {
    const title = node("b", "", changes.length ? "Balanced. What was changed:" : "Balanced: nothing had to be changed."), rows = node("ul");
    title.id = "changes-title";
    for (const { name, what, why } of changes) {
      const item = node("li");
      item.append(node("b", "", name), ` ${what}`, ...(why ? [node("span", "soft", `: ${why}`)] : []));
      rows.append(item);
    }
    const tools = node("span", "device-tools");
    tools.append(button("Undo it", () => { this.list.hidden = true; this.undo(); }), button("Close", () => { this.list.hidden = true; }));
    this.list.replaceChildren(title, rows, tools);
    this.list.hidden = false;
  }
}
