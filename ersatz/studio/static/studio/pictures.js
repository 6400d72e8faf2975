// @ts-check
// Small pictures of a survey, in the reference's ink: what the Survey of a track and the page of a target both show.

import { el, fresh, minus, refCurve, text } from "./draw.js";
import { pitchNames, tonicClass } from "./pitches.js";

/** @typedef {import("./draw.js").BarAxis} BarAxis */
/** @typedef {import("./states").Presence} Presence */
/** Roles with a row of their own.
 *  @typedef {Exclude<keyof Presence, "bars">} Role */

/** @type {[Role, string][]} */
const ROWS = [["kick", "kick"], ["clap", "clap, snare"], ["hats", "hats"], ["perc", "percussion"], ["bass", "bass"], ["chords", "chords, pad"], ["lead", "lead, voice"], ["noise", "noise"]];

/** Roles that can show ducking, from this presence on. */
const SUSTAINED = ["bass", "chords", "lead"], SOUNDING = 0.3;

/** Strength of the twelve pitch classes, the tonic solid.
 *  @param {SVGElement} node
 *  @param {import("./states").Key} key */
export function keyBars(node, key) {
  const { width, height } = fresh(node);
  const step = width / 12;
  const tonic = tonicClass(key.tonic), names = pitchNames([key.tonic, key.mode]);
  key.chroma.forEach((v, i) => {
    const tall = Math.max(1, v * (height - 15));
    node.append(el("rect", { class: i === tonic ? "refsolid" : "refbox", x: i * step + 1, y: height - 14 - tall, width: step - 4, height: tall }));
    node.append(text(i * step + step / 2 - 1, height - 2, names[i], { class: "s", "text-anchor": "middle" }));
  });
}

/** Level per bar in three bands, each in a lane of 27 px from `top` on.
 *  @param {BarAxis} axis
 *  @param {import("./states").Energy} energy
 *  @param {number} top */
export function energyRows(axis, energy, top) {
  return /** @type {[string, number[]][]} */ ([["high", energy.high_db], ["mid", energy.mid_db], ["low", energy.low_db]]).flatMap(([name, values], lane) => {
    const floor = top + lane * 27 + 24;
    const loudest = Math.max(...values);
    const points = values.flatMap((v, i) => {
      const y = floor - Math.max(0, 1 - (loudest - v) / 30) * 22;
      return [[axis.x(i + 1), y], [axis.x(i + 2), y]];
    });
    return [text(0, floor - 4, name, { class: "s" }), ...refCurve(points, floor)];
  });
}

/** What plays per bar: a row of 20 px per role, the first one's baseline at `top`.
 *  @param {BarAxis} axis
 *  @param {Presence} presence
 *  @param {number} top
 *  @param {Record<string, number> | null} [confidence] of the section at hand, by role: stands behind the names */
export function presenceRows(axis, presence, top, confidence = null) {
  const at = axis.left - 8, heading = confidence ? [text(at, top - 13, "confidence", { class: "s", "text-anchor": "end" })] : [];
  const rows = ROWS.flatMap(([role, name], row) => {
    const base = top + row * 20;
    const bars = presence[role].flatMap((v, i) => {
      if (v < 0.08) return [];
      const tall = 3 + v * 12;
      return el("rect", { class: "refsolid", opacity: (0.3 + 0.6 * v).toFixed(2), x: axis.x(i + 1) + 0.5, y: base - tall + 1, width: Math.max(1, axis.x(i + 2) - axis.x(i + 1) - 1), height: tall });
    });
    const named = confidence ? [text(at, base, confidence[role].toFixed(2), { class: "s", "text-anchor": "end" })] : [];
    return [text(0, base, name, { class: "s" }), ...named, el("line", { class: "grid", x1: axis.left, x2: axis.right, y1: base + 1, y2: base + 1 }), ...bars];
  });
  return [...heading, ...rows];
}

/** The sections that duck, in the row under `presenceRows`; where hardly anything sustained plays it can't be told. How deep a
 *  single section ducks isn't read well enough to be named.
 *  @param {BarAxis} axis
 *  @param {import("./states").Section[]} sections
 *  @param {import("./states").Pump} pump
 *  @param {number} top */
export function pumpRow(axis, sections, pump, top) {
  const base = top + ROWS.length * 20;
  const told = pump.active_sections.filter((i) => SUSTAINED.some((role) => sections[i].presence[role] >= SOUNDING));
  const boxes = told.map((i) => {
    const { start_bar: start, bars, label: name } = sections[i], x = axis.x(start) + 1;
    const box = el("rect", { class: "refbox", x, y: base - 11, width: Math.max(1, axis.x(start + bars) - x - 1), height: 11 });
    box.append(el("title", {}, `${name}, bars ${start} to ${start + bars - 1}: ducks`));
    return box;
  });
  return [text(0, base, "ducks", { class: "s" }), el("line", { class: "grid", x1: axis.left, x2: axis.right, y1: base + 1, y2: base + 1 }), ...boxes];
}

/** Risers, rolls, gaps, impacts and falls as short marks between sections and energy; shape and name, never colour alone.
 *  @param {BarAxis} axis
 *  @param {import("./states").Event[]} events
 *  @param {number} beats */
export function eventMarks(axis, events, beats) {
  /** @type {Record<string, (x: number, w: number) => string>} */
  const shapes = {
    riser: (x, w) => `M${x} 50L${x + w} 44V50Z`,
    fall: (x, w) => `M${x} 44L${x + w} 50H${x}Z`,
    "snare roll": (x, w) => Array.from({ length: Math.max(2, Math.round(w / 4)) }, (_, i) => `M${x + i * 4} 50V${49 - Math.min(5, i)}`).join(""),
    gap: (x, w) => `M${x} 44H${x + Math.max(3, w)}V50H${x}Z`,
    impact: (x) => `M${x} 43l3 7h-6Z`,
    sweep: (x, w) => `M${x} 47H${x + w}`,
  };
  return events.map((e) => {
    const x = axis.x(e.start_bar);
    const mark = el("path", { class: e.kind === "gap" ? "refline" : "event", d: shapes[e.kind](x, axis.x(e.start_bar + e.beats / beats) - x) });
    mark.append(el("title", {}, `${e.kind}, bar ${Math.floor(e.start_bar)}, ${e.beats} beats, ${sure(e.confidence)}`));
    return mark;
  });
}

/** Bar lines at which something enters or leaves, from `top` to `bottom`, a triangle at the foot: up where more enters than leaves.
 *  @param {BarAxis} axis
 *  @param {import("./states").Change[]} changes
 *  @param {number} top
 *  @param {number} bottom */
export function changeMarks(axis, changes, top, bottom) {
  return changes.map((c) => {
    const x = axis.x(c.bar);
    const mark = el("g", { class: "change" },
      el("line", { x1: x, x2: x, y1: top, y2: bottom - 7 }),
      el("path", { d: opens(c) ? `M${x} ${bottom - 7}l4 7h-8Z` : `M${x} ${bottom}l4 -7h-8Z` }));
    mark.append(el("title", {}, changeSaid(c)));
    return mark;
  });
}

/** Surveys made earlier don't tell it of everything. */
export const sure = (/** @type {number | null} */ confidence) => (confidence === null ? "confidence not known" : `confidence ${confidence.toFixed(2)}`);

/** What changes at a bar line, in words.
 *  @param {import("./states").Change} c */
export function changeSaid(c) {
  const said = [c.enters.length && `enters: ${c.enters.join(", ")}`, c.leaves.length && `leaves: ${c.leaves.join(", ")}`,
    c.bands.map((b) => `${Math.round(b.low_hz)} to ${Math.round(b.high_hz)} Hz ${b.change_db > 0 ? "+" : "−"}${Math.abs(b.change_db).toFixed(1)} dB`).join(", ")];
  return `bar ${c.bar}: ${said.filter(Boolean).join("; ")}, ${sure(c.confidence)}`;
}

/** Whether more comes in than goes. */
export const opens = (/** @type {import("./states").Change} */ c) => (c.enters.length - c.leaves.length || c.bands.reduce((sum, b) => sum + b.change_db, 0)) >= 0;

/** One bar of kick, clap and hats: strength as height, off-grid timing as a line across the step.
 *  @param {SVGElement} node
 *  @param {import("./states").DrumPattern} pattern */
export function drumSteps(node, pattern, beats = 4) {
  const { width } = fresh(node);
  const steps = pattern.steps_per_bar, perBeat = steps / beats;
  const left = 44, step = (width - left) / steps;
  /** @type {("kick" | "clap" | "hats")[]} */ (["kick", "clap", "hats"]).forEach((name, row) => {
    const y = 4 + row * 34;
    node.append(text(0, y + 19, name, { class: "s" }));
    for (let i = 0; i < steps; i += 1) {
      const x = left + i * step;
      node.append(el("rect", { fill: "none", class: "grid", x, y, width: step - 3, height: 27, "stroke-width": i % perBeat === 0 ? 1.8 : 1 }));
      const strength = pattern[name][i];
      if (!(strength > 0)) continue;
      const tall = Math.max(5, 27 * strength);
      node.append(el("rect", { class: "refbox", x, y: y + 27 - tall, width: step - 3, height: tall }));
      const ms = pattern.timing_ms[name][i];
      if (ms === null || Math.abs(ms) < 2) continue;
      const at = x + (step - 3) / 2 + Math.max(-1, Math.min(1, ms / 30)) * (step - 3) / 2;
      const mark = el("line", { class: "lookline", x1: at, x2: at, y1: y, y2: y + 27, "stroke-width": 2 });
      mark.append(el("title", {}, `${minus(ms)} ms`));
      node.append(mark);
    }
  });
  for (let beat = 0; beat * perBeat < steps; beat += 1) node.append(text(left + beat * perBeat * step, 114, beat + 1, { class: "s" }));
}
