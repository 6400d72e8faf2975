// @ts-check
// The cells of the Plan: chosen one by one or by the rectangle, switched, painted, copied, and what the chosen ones play.

import { barsWide, place } from "./bars.js";
import { button, mark, menu, node, row } from "./dom.js";
import { drag } from "./drag.js";
import { choiceField, numberField } from "./fields.js";
import { described } from "./soundpicker.js";
import { tip } from "./tips.js";

const PATTERN_KEYS = "abcde", MOST_AT_ONCE = 50;

/** @typedef {import("./states").PlanPart} PlanPart */
/** @typedef {import("./states").OwnSection} OwnSection */
/** @typedef {import("./states").CellState} CellState */
/** A cell by its row and its column.
 *  @typedef {[row: number, column: number]} Place */
/** What becomes of a cell: all of it, or some.
 *  @typedef {Partial<Pick<CellState, "on" | "pattern" | "entry" | "exit" | "level" | "fill" | "fillBars">>} Change */

const named = (/** @type {PlanPart[]} */ parts) => (parts.length > 3 ? `${parts.length} parts` : parts.map((part) => part.name).join(", "));

/** A cell that plays nothing yet.
 *  @type {CellState} */
const EMPTY = { on: false, pattern: "", entry: 0, exit: 0, level: 0, fill: "", fillBars: 0, sound: "", part: "", other: null };
/** @type {Record<string, Place>} */
const STEPS = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] };

const placeOf = (/** @type {HTMLElement} */ cell) => /** @type {Place} */ (cell.dataset.cell?.split(".").map(Number));

/** Whether a part has something to play, its own or another's: of a layer a cell says no more than whether it does.
 *  @param {PlanPart} part */
export const hasCells = (part) => Boolean(part.follows) || Object.keys(part.patterns).length > 0;

/** What becomes of a cell when another is pasted into it, of a part with these patterns in a section of so many bars: a pattern that the part hasn't
 *  stays the cell's own, what is longer than the section is cut. Null where there is nothing to do.
 *  @param {CellState | undefined} from
 *  @param {CellState} was
 *  @param {string[]} patterns
 *  @param {number} bars
 *  @returns {Change | null} */
export function pasted(from, was, patterns, bars) {
  if (!from) return was.on ? { on: false } : null;
  const entry = Math.min(from.entry, bars - 1), exit = Math.min(from.exit, bars - 1 - entry), hasFill = patterns.includes(from.fill);
  return {
    on: from.on, level: from.level, pattern: patterns.includes(from.pattern) ? from.pattern : was.pattern, entry, exit,
    fill: hasFill ? from.fill : "", fillBars: hasFill ? Math.min(from.fillBars, bars - entry - exit) : 0,
  };
}

export class Cells {
  /** `send(edit)`, `ask(ask)`, `song()` is what stands; `box` shows what the chosen cells play, `says` what can’t be done.
   *  @param {{ host: HTMLElement, box: HTMLElement, song: () => import("./sections.js").PlanSong, send: import("./edits.js").Send,
   *    ask: (wanted: object) => void, says: HTMLElement }} options */
  constructor({ host, box, song, send, ask, says }) {
    this.host = host;
    this.box = box;
    this.song = song;
    this.send = send;
    this.ask = ask;
    this.says = says;
    /** The rectangle of chosen cells, drawn from one to the other.
     *  @type {{ from: Place, at: Place, top: number, bottom: number, left: number, right: number } | null} */
    this.chosen = null;
    /** @type {{ row: number, column: number, cell: CellState | undefined }[] | null} */
    this.copied = null;
    this.dragging = false;
    /** By section, also those that are not in the page now.
     *  @type {HTMLElement[][]} */
    this.columns = [];
    /** @type {WeakMap<HTMLElement, Element>} */
    this.lanes = new WeakMap();
    /** @type {Set<HTMLElement>} */
    this.marked = new Set();
    host.addEventListener("pointerdown", (event) => this.#down(event));
    host.addEventListener("keydown", (event) => this.#key(event));
    host.addEventListener("focusin", (event) => {
      const at = this.#placeOf(event.target);
      if (at && !this.dragging && !this.#has(at)) this.choose(at, at);
    });
  }

  /** Forgets the cells that were drawn. */
  clear() {
    this.columns = this.song().sections.map(() => []);
    this.marked.clear();
  }

  /** Only what is in view, or next to it, is in the page: bars `from` to `to`.
   *  @param {number} from
   *  @param {number} to */
  reveal(from, to) {
    const near = (to - from) / 4;
    this.song().sections.forEach((s, column) => {
      const away = s.start - 1 > to + near || s.start - 1 + s.bars < from - near, cells = this.columns[column] ?? [];
      if (!cells.length || cells[0].isConnected !== away) return;
      for (const cell of cells) {
        if (!away) this.lanes.get(cell)?.append(cell);
        else if (cell !== document.activeElement) cell.remove();
      }
    });
  }

  /** @param {Place} place */
  #at([row, column]) {
    return this.columns[column]?.find((cell) => cell.dataset.cell === `${row}.${column}`);
  }

  /** One cell as a button in its lane.
   *  @param {Element} lane
   *  @param {PlanPart} part
   *  @param {OwnSection} section
   *  @param {number} row
   *  @param {number} column */
  draw(lane, part, section, row, column) {
    const found = /** @type {CellState | undefined} */ (part.cells[section.id]), on = Boolean(found?.on);
    const cell = place(node("button", "cell"), section.start - 1, section.bars, 2);
    cell.type = "button";
    cell.dataset.cell = `${row}.${column}`;
    cell.tabIndex = this.chosen && this.chosen.at[0] === row && this.chosen.at[1] === column ? 0 : row === 0 && column === 0 && !this.chosen ? 0 : -1;
    if (found?.on) {
      const share = (/** @type {number} */ bars) => `${(100 * bars) / section.bars}%`;
      cell.style.setProperty("--in", share(found.entry));
      cell.style.setProperty("--out", share(found.exit));
      cell.style.paddingLeft = `calc(${barsWide(found.entry)} + 6px)`;
      cell.append(node("b", "", part.follows ? `as ${part.follows}` : found.pattern));
      if (found.level) cell.append(` ${found.level > 0 ? "+" : "−"}${Math.abs(found.level)}`);
      if (found.part) cell.append(` by ${this.#part(found.part)?.name ?? found.part}`);
      else if (found.sound) cell.append(` ${found.sound}`);
      if (found.fillBars) {
        const fill = mark("fill", found.fill);
        Object.assign(fill.style, { width: share(found.fillBars), right: share(found.exit) });
        cell.append(fill);
      }
    }
    if (found?.other) cell.append(mark("other", "V"));
    cell.setAttribute("aria-pressed", String(on));
    // What is written on it is part of what it is called.
    const written = [...cell.childNodes].filter((n) => n instanceof Text || n instanceof HTMLElement && n.tagName === "B").map((n) => n.textContent).join("");
    cell.setAttribute("aria-label", `${part.name} in ${section.name}${found?.on && (part.follows || found.part || found.sound || found.level) ? `: ${written}` : ""}`);
    tip(cell, `${part.name} in ${section.name}: ${!found?.on ? "off" : part.follows ? `plays along with ${part.follows}` : this.#said(found)}`);
    lane.append(cell);
    this.columns[column].push(cell);
    this.lanes.set(cell, lane);
    return cell;
  }

  /** @param {CellState} cell */
  #said(cell) {
    const more = [cell.entry && `enters after ${cell.entry} bars`, cell.exit && `leaves ${cell.exit} bars early`, cell.fillBars && `ends with ${cell.fill}`, cell.other && "has an alternative"];
    return [`pattern ${cell.pattern}`, ...more.filter(Boolean)].join(", ");
  }

  /** @param {string} id */
  #part(id) {
    return this.song().parts.find((p) => p.id === id);
  }

  /** @param {EventTarget | null} target
   *  @returns {Place | null} */
  #placeOf(target) {
    const cell = target instanceof Element ? target.closest("[data-cell]") : null;
    return cell instanceof HTMLElement ? placeOf(cell) : null;
  }

  /** @param {Place} place */
  #has([row, column]) {
    const c = this.chosen;
    return c !== null && row >= c.top && row <= c.bottom && column >= c.left && column <= c.right;
  }

  /** Every cell between two of them.
   *  @param {Place} from
   *  @param {Place} at */
  choose(from, at) {
    this.chosen = { from, at, top: Math.min(from[0], at[0]), bottom: Math.max(from[0], at[0]), left: Math.min(from[1], at[1]), right: Math.max(from[1], at[1]) };
    this.mark();
    if (!this.dragging) this.tools();
  }

  /** Marks the chosen cells: only those that change are touched. */
  mark() {
    const c = this.chosen;
    if (!c) return;
    /** @type {Set<HTMLElement>} */
    const now = new Set();
    for (let column = c.left; column <= c.right; column += 1) {
      for (const cell of this.columns[column] ?? []) if (this.#has(placeOf(cell))) now.add(cell);
    }
    for (const cell of this.marked) if (!now.has(cell)) Object.assign(cell, { className: "cell", tabIndex: -1 });
    for (const cell of now) if (!this.marked.has(cell)) cell.className = "cell chosen";
    const active = this.#at(c.at);
    for (const cell of now) cell.tabIndex = cell === active ? 0 : -1;
    this.marked = now;
  }

  /** The chosen cells: [part, section, cell or undefined].
   *  @returns {[PlanPart, OwnSection, CellState | undefined][]} */
  all() {
    const c = this.chosen, { parts, sections } = this.song();
    if (!c) return [];
    return parts.slice(c.top, c.bottom + 1).flatMap((part) => sections.slice(c.left, c.right + 1).map((section) => /** @type {[PlanPart, OwnSection, CellState | undefined]} */ ([part, section, part.cells[section.id]])));
  }

  focus() {
    const cell = this.chosen && this.#at(this.chosen.at);
    if (!cell) return;
    if (!cell.isConnected) this.lanes.get(cell)?.append(cell);
    cell.focus();
  }

  /** @param {PointerEvent} event */
  #down(event) {
    const at = this.#placeOf(event.target);
    if (!at || event.button !== 0) return;
    this.choose(event.shiftKey && this.chosen ? this.chosen.from : at, at);
    this.focus();
    this.dragging = true;
    let moved = event.shiftKey;
    drag(event, this.host, {
      move: (e) => {
        const over = this.#placeOf(document.elementFromPoint(e.clientX, e.clientY));
        if (!over || !this.chosen || (over[0] === this.chosen.at[0] && over[1] === this.chosen.at[1])) return;
        moved = true;
        this.choose(this.chosen.from, over);
      },
      done: (kept) => {
        this.dragging = false;
        this.tools();
        if (kept && !moved && !this.all()[0]?.[2]?.on) this.#put("on", () => ({ on: true }));
      },
    });
  }

  /** @param {KeyboardEvent} event */
  #key(event) {
    const at = this.#placeOf(event.target);
    if (!at || event.altKey) return;
    const act = this.#act(event, at);
    if (!act) return;
    event.preventDefault();
    event.stopPropagation();
    act();
  }

  /** What a key does to the cells, null for nothing.
   *  @param {KeyboardEvent} event
   *  @param {Place} at
   *  @returns {(() => unknown) | null | undefined} */
  #act(event, at) {
    const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
    if (event.ctrlKey || event.metaKey) return new Map([["c", () => this.copy()], ["v", () => this.paste()]]).get(key);
    const by = STEPS[key];
    if (by) {
      return () => {
        const { parts, sections } = this.song(), next = /** @type {Place} */ ([at[0] + by[0], Math.max(0, Math.min(sections.length - 1, at[1] + by[1]))]);
        while (parts[next[0]] && !hasCells(parts[next[0]])) next[0] += by[0];
        if (!parts[next[0]]) return;
        this.choose(event.shiftKey && this.chosen ? this.chosen.from : next, next);
        this.focus();
      };
    }
    if (PATTERN_KEYS.includes(key)) return () => this.pattern(key.toUpperCase());
    /** @type {Record<string, (() => unknown) | null>} */
    const keys = { Enter: () => this.toggle(), " ": null, 0: () => this.off(), Delete: () => this.off(), Backspace: () => this.off(), f: () => this.fill(), g: () => this.follow(), v: () => this.flip() };
    return keys[key];
  }

  /** One edit for all chosen cells; `change(cell, part, section)` says what becomes of each, or null to leave it.
   *  @param {string} how
   *  @param {(cell: CellState, part: PlanPart, section: OwnSection) => Change | null} change */
  #put(how, change) {
    const cells = this.all().flatMap(([part, section, old]) => {
      if (!hasCells(part)) return [];
      const names = part.follows ? [""] : Object.keys(part.patterns), was = old ?? { ...EMPTY, pattern: names[0] };
      const now = change(was, part, section);
      if (!now) return [];
      const c = { ...was, pattern: names.includes(was.pattern) ? was.pattern : names[0], ...now };
      return [{ part: part.id, section: section.id, on: c.on, pattern: c.pattern, entry_bars: c.entry, exit_bars: c.exit, level_db: c.level, fill: c.fill, fill_bars: c.fillBars }];
    });
    this.says.textContent = "";
    return cells.length ? this.send({ kind: "put_cells", cells, how }) : Promise.resolve();
  }

  toggle() {
    const on = !this.all().every(([, , cell]) => cell?.on);
    this.#put(on ? "on" : "off", () => ({ on }));
  }

  off() {
    this.#put("off", (cell) => (cell.on ? { on: false } : null));
  }

  /** @param {string} name */
  async pattern(name) {
    const lack = this.#parts().filter((part) => !(name in part.patterns));
    await this.#put("painted", (cell, part) => (name in part.patterns ? { on: true, pattern: name } : null));
    if (lack.length) this.#say(`${named(lack)} ${lack.length === 1 ? "has" : "have"} no pattern ${name}: add it where the notes are written.`);
  }

  /** The chosen rows' parts. */
  #parts() {
    return [...new Set(this.all().map(([part]) => part))];
  }

  /** Beside what the server said of the edit.
   *  @param {string} sentence */
  #say(sentence) {
    this.says.textContent = [this.says.textContent, sentence].filter(Boolean).join(" ");
  }

  /** No fill, then one bar of the next pattern, then two. */
  async fill() {
    const all = this.all(), silent = all.every(([, , cell]) => !cell?.on);
    const alone = this.#parts().filter((part) => Object.keys(part.patterns).length < 2);
    await this.#put("painted", (cell, part, section) => {
      const others = Object.keys(part.patterns).filter((name) => name !== cell.pattern);
      if (!others.length || !cell.on) return null;
      const fillBars = (cell.fillBars + 1) % 3 > section.bars - cell.entry - cell.exit ? 0 : (cell.fillBars + 1) % 3;
      return { fill: fillBars ? cell.fill || others[0] : "", fillBars };
    });
    if (silent) this.#say("Nothing plays there that could end with a fill.");
    else if (alone.length) this.#say(`${named(alone)} ${alone.length === 1 ? "has" : "have"} one pattern only: a fill needs a second, or a drum fill at the boundary.`);
  }

  /** The chosen cells, and no others, as the reference has them. */
  follow() {
    if (!this.chosen) return;
    const { sections } = this.song(), { left, right } = this.chosen;
    this.ask({ kind: "follow_reference", parts: this.#parts().map((part) => part.id), sections: sections.slice(left, right + 1).map((s) => s.id) });
  }

  flip() {
    const all = this.all(), [part, section] = all.find(([, , cell]) => cell?.other) ?? [];
    this.says.textContent = "";
    if (part && section && all.length === 1) return this.send({ kind: "flip_cell", part: part.id, section: section.id });
    const kept = all.filter(([, , cell]) => cell?.other);
    if (!kept.length) return this.#say("There is no alternative yet: choose one under “Add an alternative”.");
    return this.send({ kind: "several", said: `${kept.length} cells flipped to their other versions`, edits: kept.slice(0, MOST_AT_ONCE).map(([p, s]) => ({ kind: "flip_cell", part: p.id, section: s.id })) });
  }

  copy() {
    const c = this.chosen;
    if (!c) return;
    this.copied = this.all().map(([part, section, cell]) => ({ row: this.song().parts.indexOf(part) - c.top, column: this.song().sections.indexOf(section) - c.left, cell }));
    this.tools();
  }

  paste() {
    const { copied } = this;
    if (!copied || !this.chosen) return;
    const [top, left] = [this.chosen.top, this.chosen.left], { parts, sections } = this.song();
    // One copied cell fills the whole rectangle.
    const one = copied.length === 1 ? copied[0].cell : undefined;
    if (!one) {
      const rows = Math.max(...copied.map((c) => c.row)), columns = Math.max(...copied.map((c) => c.column));
      this.choose([top, left], [Math.min(parts.length - 1, top + rows), Math.min(sections.length - 1, left + columns)]);
    }
    this.#put("pasted", (cell, part, section) => {
      const from = one ?? copied.find((c) => c.row === parts.indexOf(part) - top && c.column === sections.indexOf(section) - left)?.cell;
      return pasted(from, cell, Object.keys(part.patterns), section.bars);
    });
  }

  /** What the chosen cells play, beneath the plan. */
  tools() {
    const all = this.all(), [part, section, cell] = all[0] ?? [];
    this.box.replaceChildren();
    if (!this.song().parts.length) {
      this.box.textContent = "Nothing plays yet. Take over the reference’s plan or lay out your own, add a part, and open it by its name to write what it plays.";
      return;
    }
    if (!part || !section) {
      this.box.textContent = "Click a cell to let a part play there; drag over several. Arrow keys, Enter and the letters of the patterns do the same.";
      return;
    }
    const name = node("b", "", all.length === 1 ? `${part.name} in ${section.name}` : `${all.length} cells`);
    const patterns = [...new Set(all.flatMap(([p]) => Object.keys(p.patterns)))];
    const tool = (/** @type {string} */ title, /** @type {() => unknown} */ act, possible = true, keys = "") => tip(Object.assign(button(title, act), { disabled: !possible }), keys && `Key ${keys}`);
    this.box.append(name);
    const on = all.every(([, , c]) => c?.on);
    this.box.append(tool(on ? "Off" : "On", () => (on ? this.off() : this.#put("on", () => ({ on: true }))), all.some(([p]) => hasCells(p)), "Enter"));
    if (patterns.length) this.box.append(choiceField({ name: "cell-pattern", title: "Pattern", options: patterns, value: cell?.pattern }, (pattern) => this.pattern(pattern)));
    if (all.length === 1 && cell?.on && !part.follows) this.#one(part, section, cell);
    if (all.length > 1) this.box.append(numberField({ name: "cells-level", title: "Level", unit: "dB", low: -24, high: 12, value: cell?.level ?? 0, scale: "linear", step: 0.5 }, (level) => this.#put("painted", (c) => (c.on ? { level } : null))));
    this.box.append(
      tool("As the reference", () => this.follow(), Boolean(this.song().reference), "G"),
      tool("Copy", () => this.copy(), true, "Ctrl C"),
      tool("Paste", () => this.paste(), Boolean(this.copied), "Ctrl V"),
    );
  }

  /** @param {PlanPart} part
   *  @param {OwnSection} section
   *  @param {CellState} cell */
  #one(part, section, cell) {
    const put = (/** @type {object} */ change) => this.send(() => {
      const now = this.#part(part.id)?.cells[section.id];
      return now && { kind: "set_cell", part: part.id, section: section.id, pattern: now.pattern, entry_bars: now.entry, exit_bars: now.exit, level_db: now.level, fill: now.fill, fill_bars: now.fillBars, ...change };
    });
    const bars = (/** @type {string} */ field, /** @type {string} */ title, /** @type {number} */ value, /** @type {number} */ most) => numberField({ name: `cell-${field}`, title, unit: "bars", low: 0, high: most, value, scale: "linear", step: 1 }, (v) => put({ [field]: v }));
    const names = Object.keys(part.patterns), none = "no fill";
    this.box.append(
      bars("entry_bars", "Enters after", cell.entry, section.bars - 1 - cell.exit),
      bars("exit_bars", "Leaves early by", cell.exit, section.bars - 1 - cell.entry),
      numberField({ name: "cell-level", title: "Level", unit: "dB", low: -24, high: 12, value: cell.level, scale: "linear", step: 0.5 }, (v) => put({ level_db: v })),
    );
    if (names.length > 1) {
      this.box.append(choiceField({ name: "cell-fill", title: "Ends with", options: [none, ...names], value: cell.fillBars ? cell.fill : none }, (v) => put(v === none ? { fill: "", fill_bars: 0 } : { fill: v, fill_bars: cell.fillBars || 1 })));
      if (cell.fillBars) this.box.append(bars("fill_bars", "for the last", cell.fillBars, section.bars - cell.entry - cell.exit));
    }
    this.#versions(part, section, cell);
  }

  /** The other version that a cell keeps: another pattern, another sound, another part.
   *  @param {PlanPart} part
   *  @param {OwnSection} section
   *  @param {CellState} cell */
  #versions(part, section, cell) {
    const keep = (/** @type {object | null} */ alternative, shipped = "") => this.send({ kind: "keep_alternative", part: part.id, section: section.id, alternative, shipped });
    if (cell.other) {
      const said = cell.other.part ? this.#part(cell.other.part)?.name : cell.other.sound || (cell.sound ? "the part’s own sound" : `pattern ${cell.other.pattern}`);
      const flip = button(`Switch to ${said}`, () => this.flip());
      tip(flip, "Key V");
      this.box.append(flip, button("Delete alternative", () => keep(null), "btn btn-link"));
      return;
    }
    /** @type {(string | import("./dom.js").Row)[]} */
    const rows = [];
    const offer = (/** @type {string} */ title, /** @type {import("./dom.js").Row[]} */ found) => rows.push(...(found.length ? [title, ...found] : []));
    const { parts, sounds } = this.song(), level = cell.level, pitched = (/** @type {PlanPart} */ p) => ["bass", "chords", "lead"].includes(p.role);
    offer("Pattern", Object.keys(part.patterns).filter((n) => n !== cell.pattern).map((n) => row(`Pattern ${n}`, () => keep({ pattern: n, level_db: level }))));
    offer("Sound", (sounds[part.role] ?? []).map((s) => row(`${s.name}: ${described(s)}`, () => keep({ pattern: cell.pattern, level_db: level }, s.name))));
    offer("Played by", parts.filter((p) => p.id !== part.id && Object.keys(p.patterns).length && pitched(p) === pitched(part)).map((p) => row(p.name, () => keep({ pattern: Object.keys(p.patterns)[0], level_db: level, part: p.id }))));
    this.box.append(menu("Add an alternative", rows, { name: "cell-other" }));
  }
}
