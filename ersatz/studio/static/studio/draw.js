// @ts-check
// Drawing in two inks. SVG elements from attributes, axes, curves; the reference outlined and hatched, the remake solid.

import { slider } from "./handle.js";

const NS = "http://www.w3.org/2000/svg";

/** @typedef {(string | Node | null | undefined | (string | Node)[])} Child */
/** @typedef {number[]} Point  A place in pixels. */
/** @typedef {(string | number)[]} Section  A name, the bar that it begins with, its bars. */

/** An SVG element.
 *  @template {keyof SVGElementTagNameMap} T
 *  @param {T} tag
 *  @param {Record<string, string | number | null | undefined>} attributes
 *  @param {Child[]} children
 *  @returns {SVGElementTagNameMap[T]} */
export function el(tag, attributes = {}, ...children) {
  const node = document.createElementNS(NS, tag);
  for (const [name, value] of Object.entries(attributes)) if (value !== null && value !== undefined) node.setAttribute(name, String(value));
  for (const child of children.flat()) if (child != null) node.append(child);
  return node;
}

/** A picture of its own size in a box.
 *  @param {string} className */
export function svgOf(className) {
  return el("svg", { class: className });
}

/** Empty an SVG and give it pixel coordinates of its own size. Returns {width, height}.
 *  @param {SVGElement} svg
 *  @param {number | null} height */
export function fresh(svg, height = null) {
  const size = sized(svg, height);
  svg.replaceChildren();
  return size;
}

/** The same, and what is drawn in it stays.
 *  @param {SVGElement} svg
 *  @param {number | null} [height] */
export function sized(svg, height = null) {
  const box = svg.getBoundingClientRect();
  const width = Math.max(60, Math.round(box.width || (svg.parentElement?.clientWidth ?? 0)));
  const tall = height ?? Math.max(30, Math.round(box.height));
  svg.setAttribute("viewBox", `0 0 ${width} ${tall}`);
  if (height !== null) svg.setAttribute("height", String(height));
  return { width, height: tall };
}

/** @type {(x: number, y: number, content: string | number, attributes?: Record<string, string | number>) => SVGTextElement} */
export const text = (x, y, content, attributes = {}) => el("text", { x, y, ...attributes }, String(content));
/** A number as it is read, with a true minus.
 *  @param {string | number} value */
export const minus = (value) => String(value).replace("-", "−");

/** @param {Point[]} points */
export function path(points) {
  return points.map(([x, y], i) => `${i ? "L" : "M"}${x.toFixed(1)} ${y.toFixed(1)}`).join("");
}

/** A curve in the reference's ink: line over a hatched area down to `floor`.
 *  @param {Point[]} points
 *  @param {number} floor */
export function refCurve(points, floor) {
  const line = path(points);
  const last = points[points.length - 1];
  return [el("path", { class: "refarea", d: `${line}L${last[0]} ${floor}L${points[0][0]} ${floor}Z` }), el("path", { class: "refline", d: line })];
}

/** What is usual, hatched from `low` to `high`, with the typical curve as a line through it.
 *  @param {Point[]} low
 *  @param {Point[]} high
 *  @param {Point[]} middle */
export function corridor(low, high, middle) {
  const edges = [low, high].map((points) => el("path", { class: "edge", d: path(points) }));
  return [el("path", { class: "refarea", d: `${path(high)}L${path([...low].reverse()).slice(1)}Z` }), ...edges, el("path", { class: "refline", d: path(middle) })];
}

/** @param {Point[]} points */
export const ownCurve = (points) => el("path", { class: "ownline", d: path(points) });

/** A label that stays readable on hatching.
 *  @param {number} x
 *  @param {number} y
 *  @param {string | number} content
 *  @param {Record<string, string | number>} attributes */
export function label(x, y, content, attributes = {}) {
  const node = text(x, y, content, attributes);
  const width = String(content).length * 6.4 + 6;
  return [el("rect", { class: "paper", x: x - 3, y: y - 12, width, height: 16 }), node];
}

/** The bar axis: left and right in pixels, bars 1..count. */
export class BarAxis {
  /** @param {number} left
   *  @param {number} right
   *  @param {number} bars */
  constructor(left, right, bars) {
    this.left = left;
    this.right = right;
    this.bars = bars;
  }

  /** @param {number} bar */
  x(bar) {
    return this.left + ((bar - 1) / this.bars) * (this.right - this.left);
  }

  /** @param {number} x */
  bar(x) {
    return 1 + ((x - this.left) / (this.right - this.left)) * this.bars;
  }

  /** Ticks every 4 bars, figures where they fit (16, 32 ... apart), 20 px tall from `top`.
   *  @param {number} top */
  ticks(top) {
    const out = [];
    let step = 16;
    while (this.x(1 + step) - this.x(1) < 46) step *= 2;
    const fine = step / 4;
    for (let bar = 1; bar <= this.bars + 1; bar += fine) {
      const major = (bar - 1) % step === 0;
      out.push(el("line", { class: "tick", x1: this.x(bar), x2: this.x(bar), y1: top + (major ? 3 : 9), y2: top + 14 }));
      if (major && bar <= this.bars) out.push(text(this.x(bar) + 3, top + 13, bar, { class: "s" }));
    }
    return out;
  }
}

/** Names for sections that occur more than once: drop 1, drop 2.
 *  @param {Section[]} sections
 *  @returns {string[]} */
export function sectionNames(sections) {
  /** @type {Record<string, number>} */
  const count = {};
  /** @type {Record<string, number>} */
  const seen = {};
  for (const [name] of sections) count[name] = (count[name] ?? 0) + 1;
  return sections.map(([name]) => {
    seen[name] = (seen[name] ?? 0) + 1;
    return count[name] > 1 ? `${name} ${seen[name]}` : String(name);
  });
}

/** A row of sections. `ink` is "ref" or "own"; `onPick(index)` makes them buttons.
 *  @param {BarAxis} axis
 *  @param {Section[]} sections
 *  @param {number} top
 *  @param {number} height
 *  @param {"ref" | "own"} ink
 *  @param {((index: number) => void) | null} onPick */
export function sectionRow(axis, sections, top, height, ink, onPick = null) {
  const names = sectionNames(sections);
  return sections.map((section, i) => {
    const [name, start, bars] = /** @type {[string, number, number]} */ (section);
    const x = axis.x(start) + 1;
    const width = Math.max(3, axis.x(start + bars) - axis.x(start) - 2);
    const group = el("g", onPick ? { role: "button", tabindex: 0, "aria-label": `${names[i]}, bars ${start} to ${start + bars - 1}` } : {});
    group.append(el("rect", { class: `${ink}box`, x, y: top, width, height }));
    const fits = [names[i], name].find((name) => name.length * 6.6 + 12 < width);
    const shown = fits ?? (width > 36 ? `${name.slice(0, Math.floor((width - 18) / 6.6))}…` : "");
    group.append(el("title", {}, `${names[i]}, bars ${start} to ${start + bars - 1}`));
    if (shown) {
      // The group says it already.
      if (ink === "ref") group.append(...label(x + 8, top + height / 2 + 4.5, shown, { class: "refname", "aria-hidden": "true" }));
      else group.append(text(x + 8, top + height / 2 + 4.5, shown, { class: "ownname", "aria-hidden": "true" }));
    }
    if (onPick) {
      group.addEventListener("click", () => onPick(i));
      group.addEventListener("keydown", (event) => {
        if (event.key === "Enter") {
          event.preventDefault();
          event.stopPropagation();
          onPick(i);
        }
      });
    }
    return group;
  });
}

/** A line that follows the player along an axis, and seeking by a click on the strip between `top` and `bottom`.
 *  @param {SVGSVGElement} svg
 *  @param {BarAxis} axis
 *  @param {number} top
 *  @param {number} bottom
 *  @param {import("./player.js").Player | null} player
 *  @param {number[]} strip */
export function playhead(svg, axis, top, bottom, player, strip = [top, top + 18]) {
  const seek = el("rect", { class: "seek", x: axis.left, y: strip[0], width: axis.right - axis.left, height: strip[1] - strip[0] });
  seek.append(el("title", {}, "Click to listen from here"));
  seek.addEventListener("click", (event) => {
    const box = svg.getBoundingClientRect();
    const x = ((event.clientX - box.left) / box.width) * svg.viewBox.baseVal.width;
    player?.seek(Math.max(0, Math.floor(axis.bar(x)) - 1));
  });
  const line = el("line", { class: "playhead", y1: top, y2: bottom });
  const mark = el("path", { class: "playhead-mark" });
  svg.append(seek, line, mark);
  const move = (/** @type {number} */ bar) => {
    const x = axis.x(Math.min(bar, axis.bars) + 1);
    line.setAttribute("x1", String(x));
    line.setAttribute("x2", String(x));
    mark.setAttribute("d", `M${x - 5} ${top}h10l-5 7z`);
  };
  if (player) player.watch(svg, move);
  else line.remove();
}

/** A bar line of a picture as a handle; `done(bar)` when it stands elsewhere.
 *  @param {SVGSVGElement} picture
 *  @param {BarAxis} axis
 *  @param {{ bar: number, least: number, most: number, top: number, bottom: number, name: string }} options
 *  @param {(bar: number) => void} done */
export function boundaryHandle(picture, axis, { bar: value, least, most, top, bottom, name }, done) {
  const handle = el("g", { class: "boundary" }), line = el("line", { y1: top, y2: bottom });
  const grip = el("rect", { y: top, width: 10, height: bottom - top });
  handle.append(grip, line);
  const show = (/** @type {number} */ bar) => {
    line.setAttribute("x1", String(axis.x(bar)));
    line.setAttribute("x2", String(axis.x(bar)));
    grip.setAttribute("x", String(axis.x(bar) - 5));
    return `bar ${bar}`;
  };
  const at = (/** @type {PointerEvent} */ event) => {
    const box = picture.getBoundingClientRect();
    return axis.bar(((event.clientX - box.left) / box.width) * picture.viewBox.baseVal.width);
  };
  return slider(handle, { name, value, least, most, show, at }, done);
}

/** Lines of a frequency axis, Hz and how they are written, an octave apart.
 *  @type {[number, string][]} */
export const FREQUENCIES = [[30, "30"], [60, "60"], [125, "125"], [250, "250"], [500, "500"], [1000, "1k"], [2000, "2k"], [4000, "4k"], [8000, "8k"], [16000, "16k"]];

/** Frequency axis: x of a frequency between two others, and its grid.
 *  @param {number} left
 *  @param {number} right
 *  @param {number} low
 *  @param {number} high
 *  @param {number} top
 *  @param {number} bottom */
export function frequencyAxis(left, right, low, high, top, bottom) {
  const x = (/** @type {number} */ hz) => left + (Math.log(hz / low) / Math.log(high / low)) * (right - left);
  const grid = [];
  for (const [hz, name] of FREQUENCIES) {
    if (hz < low * 1.05 || hz > high) continue;
    grid.push(el("line", { class: "grid", x1: x(hz), x2: x(hz), y1: top, y2: bottom }));
    if (right - left > 420 || ["60", "250", "1k", "4k", "16k"].includes(name)) grid.push(text(x(hz), bottom + 13, name, { class: "s", "text-anchor": "middle" }));
  }
  return { x, grid };
}

/** Run a drawing now and whenever its width changes.
 *  @param {() => void} draw */
export function redrawn(draw) {
  draw();
  let width = window.innerWidth;
  window.addEventListener("resize", () => {
    if (window.innerWidth !== width) {
      width = window.innerWidth;
      draw();
    }
  });
  document.fonts?.ready.then(draw);
}

/** What the server has put into the page.
 *  @param {string} id
 *  @returns {any} */
export const readJson = (id) => JSON.parse(document.getElementById(id)?.textContent ?? "null");
