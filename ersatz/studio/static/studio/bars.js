// @ts-check
// Rows on one bar axis that zooms from the whole track to one bar. Everything is placed in shares of its lane, which is as wide as all bars:
// zooming widens the sheet and lays it out anew, without styling or drawing anything anew; scrolling is the browser's own.

import { node } from "./dom.js";
import { slider } from "./handle.js";
import { tip } from "./tips.js";

const MOST_PX = 900;
const NUMBERED = [1, 2, 4, 8, 16, 32, 64];

/** A length of so many bars, in a lane. */
export const barsWide = (/** @type {number} */ bars) => `100% * ${bars} / var(--bars)`;

/** Puts an element over bars `from` (0-based, fractional) to `from + bars` of its lane, `inset` px kept free at its ends.
 *  @template {HTMLElement | SVGElement} E
 *  @param {E} element
 *  @param {number} from
 *  @param {number} bars
 *  @param {number} inset
 *  @returns {E} */
export function place(element, from, bars, inset = 0) {
  element.style.left = `calc(${barsWide(from)} + ${inset}px)`;
  element.style.width = `calc(${barsWide(bars)} - ${2 * inset}px)`;
  return element;
}

export class BarRows {
  /** `host` scrolls; `head` is the width of the names in px.
   *  @param {HTMLElement} host
   *  @param {number} head */
  constructor(host, head) {
    this.host = host;
    this.head = head;
    this.bars = 1;
    this.perBar = 0;
    /** @type {(() => void)[]} */
    this.watchers = [];
    /** @type {HTMLElement | null} */
    this.numbers = null;
    /** @type {number | null} */
    this.asked = null;
    this.lines = 0;
    this.at = 0;
    this.sheet = node("div", "barrows");
    this.line = node("div", "barline");
    host.style.setProperty("--head", `${head}px`);
    host.addEventListener("wheel", (event) => {
      // A pinch on a touchpad arrives as a wheel with Ctrl held.
      if (!event.ctrlKey && !event.metaKey) return;
      event.preventDefault();
      this.zoom(Math.exp(-event.deltaY * 0.01), event.clientX);
    }, { passive: false });
    host.addEventListener("scroll", () => this.#moved(), { passive: true });
    window.addEventListener("resize", () => this.#set(this.perBar, null));
  }

  get room() {
    return this.host.clientWidth - this.head - 2;
  }

  get least() {
    return Math.max(1, this.room / this.bars);
  }

  /** Empties it for `bars` bars; what is in view stays in view.
   *  @param {number} bars */
  clear(bars) {
    const whole = this.perBar <= this.least + 0.01;
    this.bars = bars;
    this.sheet = node("div", "barrows");
    this.line = node("div", "barline");
    this.sheet.append(this.line);
    this.numbers = null;
    this.host.style.setProperty("--bars", String(bars));
    const left = this.host.scrollLeft;
    this.host.replaceChildren(this.sheet);
    this.#set(whole ? 0 : this.perBar, null);
    this.host.scrollLeft = left;
  }

  /** A row with a name; gives the lane that its things are put in.
   *  @param {string | Node} head
   *  @param {number} height */
  row(head, height, className = "") {
    const row = node("div", `barrow ${className}`);
    row.style.height = `${height}px`;
    const name = node("div", "barhead"), lane = node("div", "barlane");
    name.append(head);
    row.append(name, lane);
    this.sheet.append(row);
    return lane;
  }

  /** Bars from one number to the next. */
  get step() {
    return NUMBERED.find((n) => n * this.perBar >= 44) ?? 64;
  }

  /** Numbers every `step` bars, no more of them than are seen. */
  #number() {
    const { step } = this, lines = Math.max(1, step / 2);
    if (lines !== this.lines) this.host.style.setProperty("--lines", String(lines));
    this.lines = lines;
    if (!this.numbers || this.numbers.dataset.step === String(step)) return;
    this.numbers.dataset.step = String(step);
    this.numbers.replaceChildren(...Array.from({ length: Math.ceil(this.bars / step) }, (_, k) => {
      const number = node("span", "n", String(k * step + 1));
      number.style.left = `calc(${barsWide(k * step)})`;
      return number;
    }));
  }

  /** The numbers of the bars; a click on them calls `seek(bar)`.
   *  @param {(bar: number) => void} seek
   *  @param {string | Node} head */
  ruler(seek, head = "") {
    const lane = this.row(head, 28, "ruler");
    this.numbers = lane;
    this.#number();
    lane.addEventListener("click", (event) => seek(Math.max(0, Math.floor(this.barAt(event.clientX)))));
    tip(lane, "Click to listen from here");
    return lane;
  }

  /** 0-based bar, fractional, under a pointer.
   *  @param {number} clientX */
  barAt(clientX) {
    return (clientX - this.host.getBoundingClientRect().left - this.head + this.host.scrollLeft) / this.perBar;
  }

  /** Bars in view, 0-based: [first, last]. */
  get view() {
    return [this.host.scrollLeft / this.perBar, (this.host.scrollLeft + this.room) / this.perBar];
  }

  /** Closer by a factor, around a pointer or the middle.
   *  @param {number} factor
   *  @param {number | null} clientX */
  zoom(factor, clientX = null) {
    this.#set(this.perBar * factor, clientX);
  }

  fit() {
    this.#set(0, null);
  }

  /** Bars `first` to `last` fill the view.
   *  @param {number} first
   *  @param {number} bars */
  show(first, bars) {
    this.#set(this.room / bars, null);
    this.host.scrollLeft = first * this.perBar;
  }

  /** @param {number} perBar
   *  @param {number | null} clientX */
  #set(perBar, clientX) {
    const box = this.host.getBoundingClientRect();
    const x = clientX === null ? this.head + this.room / 2 : clientX - box.left;
    const bar = this.perBar ? (this.host.scrollLeft + x - this.head) / this.perBar : 0;
    this.perBar = Math.min(Math.max(perBar, this.least), Math.max(MOST_PX, this.room));
    this.#number();
    this.sheet.style.width = `${this.head + this.bars * this.perBar + 2}px`;
    this.host.scrollLeft = Math.max(0, bar * this.perBar - (x - this.head));
    this.#moved();
  }

  /** Calls `act` after every zoom and scroll, at most once per frame.
   *  @param {() => void} act */
  watch(act) {
    this.watchers.push(act);
  }

  #moved() {
    this.playhead(this.at);
    if (this.asked) return;
    this.asked = requestAnimationFrame(() => {
      this.asked = null;
      for (const act of this.watchers) act();
    });
  }

  /** Turns the page when what plays leaves the view.
   *  @param {number} bar */
  follow(bar) {
    const [from, to] = this.view;
    if (to - from < this.bars - 0.01 && (bar < from || bar > to)) this.host.scrollLeft = bar * this.perBar - 8;
  }

  /** @param {number} bar */
  playhead(bar) {
    this.at = bar;
    this.line.style.transform = `translateX(${this.head + Math.min(bar, this.bars) * this.perBar}px)`;
  }
}

/** A bar line as a handle in a lane; `done(bar)` when it stands elsewhere. Bars are 0-based here.
 *  @param {BarRows} rows
 *  @param {{ bar: number, least: number, most: number, name: string, step?: number, said?: (bar: number) => string }} options
 *  @param {(bar: number) => void} done */
export function edge(rows, { bar: value, said = (bar) => `bar ${bar + 1}`, ...more }, done) {
  const handle = node("div", "boundary");
  const show = (/** @type {number} */ bar) => {
    handle.style.left = `calc(${barsWide(bar)} - 5px)`;
    return said(bar);
  };
  return slider(handle, { value, show, at: (/** @type {PointerEvent} */ event) => rows.barAt(event.clientX), ...more }, done);
}
