// Balance: the whole mix on the frequency axis, strip by strip. The server keeps the song; this page sends edits, draws what comes back,
// and plays a change at once over the running loop until the true render is there.

import { asked, remember } from "./address.js";
import { Analyser } from "./analyser.js";
import { ChainEditor, NEW_EFFECT, documentOf } from "./chain.js";
import { chainTools } from "./chaintools.js";
import { ClashPanel } from "./clashes.js";
import { button, menu, node } from "./dom.js";
import { readJson } from "./draw.js";
import { DuckingPanel } from "./ducking.js";
import { edits } from "./edits.js";
import { player } from "./frame.js";
import { latest, post } from "./http.js";
import { whenFree } from "./inhand.js";
import { isForPage } from "./keys.js";
import { calledOf, LaneRows } from "./lanes.js";
import { MixMeters } from "./meters.js";
import { Preview } from "./preview.js";
import { Solver } from "./solve.js";
import { stripFigures, stripSends } from "./strippanel.js";
import { editTitle } from "./title.js";
import { louderDb, variantUrl } from "./variant.js";

const NEW_BAND_KINDS = { low: "low cut 24", high: "high cut 24" };
/** Places of the bands of an equaliser. */
const BANDS = [1, 2, 3, 4, 5, 6, 7, 8];
const byId = (id) => document.getElementById(id);
const host = byId("balance"), says = byId("balance-says");
/** Placed beside the mix's name as the lanes are drawn. */
const bandChoice = byId("band"), withoutBand = byId("without-band");
const { values, masterValues, sendHighDb, mostDuckedDb, kinds, dynamics, reference, headroomDb, ...first } = readJson("drawing");
let state = first;
/** What is held or on its way, by strip: figures, sends, mute, cuts, effects. */
const live = new Map();
const solo = new Set();
let picked = state.strips[0].id, levels = null, mark = null, chains = first.chains;
/** The strip that is heard with everything off. */
let off = null;

/** The strips as they stand with what is held. */
function wanted() {
  return state.strips.map((strip) => {
    const held = live.get(strip.id);
    return held ? { ...strip, ...held, figures: { ...strip.figures, ...held.figures }, sends: { ...strip.sends, ...held.sends } } : strip;
  });
}
const stripOf = (id) => wanted().find((s) => s.id === id);

function hold(id, change) {
  const held = live.get(id) ?? {};
  live.set(id, { ...held, ...change, figures: { ...held.figures, ...change.figures }, sends: { ...held.sends, ...change.sends } });
  preview.update(wanted());
  lanes.show(stripOf(id));
}

const send = edits({ url: host.dataset.edit, says, revision: () => state.revision, show, refused: () => { live.clear(); draw(); preview.update(wanted()); } });

const preview = new Preview({
  player, bars: state.bars, headroomDb,
  stripUrl: (sha, id) => `/listen/strip/${state.remake}/${sha}/${id}/`,
  sendUrl: (sha, id, to) => `/listen/send/${state.remake}/${sha}/${id}/${to}/`,
  onState: (isExact) => { byId("exact").textContent = isExact || !player.isPlaying ? "" : "heard at once; exact in a moment"; },
});

// Edits ----------------------------------------------------------------------------------------------------------------

const eqOf = (strip) => strip.effects.findIndex((e) => e.kind === "eq" && e.on);
const bandParams = (k, { hz, db, q }) => ({ ...(hz === undefined ? {} : { [`band${k}_hz`]: hz }), ...(db === undefined ? {} : { [`band${k}_db`]: db }), ...(q === undefined ? {} : { [`band${k}_q`]: q }) });

/** A strip's effects with band `k` of effect `i` other; `kind` null leaves it, "off" takes it out. */
function withBand(effects, i, k, change, kind = null) {
  return effects.map((e, n) => (n === i ? { ...e, params: { ...e.params, ...bandParams(k, change) }, choices: { ...e.choices, ...(kind ? { [`band${k}_kind`]: kind } : {}) } } : e));
}

/** The first band of the strip's equaliser that is free, in a new one where it has none: [effects, i, k]. */
function freeBand(strip) {
  const i = eqOf(strip);
  const used = (e, k) => (e.choices[`band${k}_kind`] ?? "off") !== "off";
  if (i >= 0) {
    const k = BANDS.find((n) => !used(strip.effects[i], n));
    if (k) return [strip.effects, i, k];
  }
  return [[...strip.effects, { ...NEW_EFFECT, kind: "eq" }], strip.effects.length, 1];
}

const chain = new ChainEditor({
  list: byId("chain"), panel: byId("effect"), effects: () => state.strips.find((s) => s.id === picked)?.effects ?? [],
  send: (make) => send(() => { const edit = make(); return edit && { strip: picked, ...edit }; }),
  preview: previewed, bypassUrl: (i) => `${host.dataset.home}level/${encodeURIComponent(picked)}/${i}/`,
  parts: () => state.strips.filter((s) => s.kind === "part" && s.id !== picked).map((s) => [s.id, s.name]),
});

const setEffects = (id, effects) => send(() => ({ kind: "set_effects", strip: id, effects: effects.map(documentOf) }));

const act = {
  pick(id) {
    picked = id;
    chain.open = 0;
    lanes.picked = id;
    draw();
    remember({ section: section().id, strip: id });
  },
  /** A name pressed: with Ctrl it is one more of those chosen, with Shift all up to it are. */
  choose(id, event) {
    const { chosen } = lanes, ids = [...lanes.rows.keys()];
    if (event.ctrlKey || event.metaKey) {
      if (!chosen.size) chosen.add(picked);
      if (!chosen.delete(id)) chosen.add(id);
    } else if (event.shiftKey) {
      const [from, to] = [ids.indexOf(picked), ids.indexOf(id)].sort((a, b) => a - b);
      for (const each of ids.slice(from, to + 1)) chosen.add(each);
    } else chosen.clear();
    if (!event.shiftKey) act.pick(id);
    else draw();
  },
  /** What was held is given up: the strip stands as it stood. */
  letGo(id) {
    live.delete(id);
    preview.update(wanted());
    lanes.redraw();
  },
  near: (id) => preview.prefetch(id),
  nearSend: (id, to) => preview.prefetchSend(id, to),
  drag: (id, figures) => hold(id, { figures }),
  set(id, figures) {
    hold(id, { figures });
    for (const [name, value] of Object.entries(figures)) send({ kind: "set_strip", strip: id, name, value });
  },
  mute(id) {
    const strip = stripOf(id);
    hold(id, { mute: !strip.mute });
    send({ kind: "mute_strip", strip: id, mute: !strip.mute });
  },
  solo(id) {
    if (!solo.delete(id)) solo.add(id);
    lanes.draw();
    listen();
  },
  send(id, to, level, isDone) {
    const was = stripOf(id).sends[to] ?? { db: -60, before_fader: false }, next = { ...was, ...level };
    hold(id, { sends: { [to]: next } });
    if (isDone) send({ kind: "set_send", strip: id, to, db: next.db, before_fader: next.before_fader });
  },
  cutsOf(strip) {
    if (strip.kind === "part") return [{ which: "low", hz: strip.cuts[0] }, { which: "high", hz: strip.cuts[1] }];
    if (strip.kind === "master") return [{ which: "low", hz: strip.cuts[0] }];
    return ["low", "high"].map((which) => {
      const i = eqOf(strip), e = strip.effects[i], k = e && BANDS.find((n) => (e.choices[`band${n}_kind`] ?? "").startsWith(`${which} cut`));
      return { which, i, k, hz: k ? bandValue(e, k, "hz") : 0 };
    });
  },
  cut(id, { which, i, k }, hz, isDone) {
    const strip = stripOf(id);
    if (strip.kind === "part" || strip.kind === "master") {
      const cuts = which === "low" ? [hz, strip.cuts[1]] : [strip.cuts[0], hz];
      hold(id, { cuts });
      if (isDone) send(strip.kind === "part" ? { kind: "set_cuts", part: id, low_cut_hz: cuts[0], high_cut_hz: cuts[1] } : { kind: "set_master", name: "low_cut_hz", value: Math.max(10, hz) });
      return;
    }
    const [effects, at, band] = k ? [strip.effects, i, k] : freeBand(strip), next = withBand(effects, at, band, hz ? { hz } : {}, hz ? (k ? null : NEW_BAND_KINDS[which]) : "off");
    if (k) hold(id, { effects: next });
    if (isDone) setEffects(id, next);
  },
  bandsOf(strip) {
    const out = (strip.eq ?? []).map((b, k) => ({ master: k, kind: "bell", hz: b.hz, db: b.gain_db, q: b.q }));
    strip.effects.forEach((e, i) => {
      if (e.kind !== "eq" || !e.on) return;
      for (const k of BANDS) {
        const kind = e.choices[`band${k}_kind`] ?? "off";
        if (["bell", "low shelf", "high shelf"].includes(kind)) out.push({ i, k, kind, hz: bandValue(e, k, "hz"), db: bandValue(e, k, "db"), q: bandValue(e, k, "q") });
      }
    });
    return out;
  },
  band(id, band, change, isDone) {
    const strip = stripOf(id);
    if (band.master !== undefined) {
      const eq = change === null ? strip.eq.filter((_, k) => k !== band.master) : strip.eq.map((b, k) => (k === band.master ? { hz: change.hz ?? b.hz, gain_db: change.db ?? b.gain_db, q: change.q ?? b.q } : b));
      hold(id, { eq });
      if (isDone) send({ kind: "set_master_eq", bands: eq });
      return;
    }
    const effects = withBand(strip.effects, band.i, band.k, change ?? {}, change === null ? "off" : null);
    hold(id, { effects });
    if (isDone) setEffects(id, effects);
  },
  addBand(id, hz) {
    const strip = stripOf(id);
    act.pick(id);
    if (strip.kind === "master") {
      send({ kind: "set_master_eq", bands: [...strip.eq, { hz, gain_db: 0, q: 1 }] });
      return;
    }
    const [effects, i, k] = freeBand(strip);
    setEffects(id, withBand(effects, i, k, { hz, db: 0, q: 1 }, "bell"));
  },
};
const bandValue = (e, k, name) => e.params[`band${k}_${name}`] ?? e.fields.find((f) => f.name === `band${k}_${name}`).value;

const preparing = latest(host.dataset.preview);
/** What an edit would draw, and sound like. */
function previewed(edit, drawn) {
  const strip = picked;
  preparing({ edit: { strip, ...edit } }, (data) => {
    drawn(data);
    hold(strip, { effects: data.effects });
  });
}

// What is heard ----------------------------------------------------------------------------------------------------------

/** Ids of the parts that solo lets through. */
function soloed() {
  const inside = (id) => state.strips.filter((s) => s.out === id).flatMap((s) => (s.kind === "part" ? [s.id] : inside(s.id)));
  return [...solo].flatMap((id) => (stripOf(id)?.kind === "part" ? [id] : inside(id)));
}

/** The remake as it stands, or its soloed parts; the preview carries over until that plays. */
async function listen() {
  const heard = soloed(), url = heard.length ? variantUrl(state.listen, { heard }) : state.listen;
  preview.setSolo(heard.length && player.tracks.remake.url !== url ? [...solo] : null);
  const { sha, strips } = state;
  await player.replaceRemake(url, { bars: state.bars });
  if (sha !== state.sha) return;
  preview.setSolo(null);
  preview.rebase(sha, strips, wanted());
}

// What is seen -----------------------------------------------------------------------------------------------------------

let sectionId = state.sections.find((s) => s.id === asked.get("section"))?.id ?? mainSection();
if (state.strips.some((s) => s.id === asked.get("strip"))) picked = asked.get("strip");

/** The one under the playhead, or the longest drop. */
function mainSection() {
  const drops = state.sections.filter((s) => s.name.startsWith("drop"));
  return (drops.sort((a, b) => b.bars - a.bars)[0] ?? state.sections[0]).id;
}
const section = () => state.sections.find((s) => s.id === sectionId) ?? state.sections[0];

const measuredAt = (what) => `/listen/${what}/${state.remake}/${levels.sha}/`;
const analyser = new Analyser({
  strips: wanted, levels: () => levels, meter: byId("mix-meter"), hear: byId("hear-band"), called: calledOf,
  fine: async (id) => {
    const answer = await fetch(`${measuredAt("fine")}${encodeURIComponent(id)}/${levels.from}-${levels.to}.json`).catch(() => null);
    return answer?.ok ? answer.json() : null;
  },
});
const lanes = new LaneRows(byId("lanes"), { mix: () => ({ strips: wanted(), solo }), levels: () => levels, marks: () => mark, act, analyser });
lanes.picked = picked;
const meters = new MixMeters({
  player, url: () => `/listen/meters/${state.remake}/${state.sha}/`, rows: lanes.rows, mix: analyser.meter, bars: () => state.bars,
  takenUrl: () => (stripOf(picked)?.effects.some((e) => e.on && dynamics.includes(e.kind)) ? `/listen/reductions/${state.remake}/${state.sha}/${encodeURIComponent(picked)}/` : ""),
  taken: (db) => chain.showTaken(db), isMeasured: () => player.tracks.remake.url === state.listen,
});
const ducking = new DuckingPanel({ box: byId("ducking-box"), send, state: () => state, reference, picked: () => picked, most: mostDuckedDb, home: host.dataset.home });

const clashes = new ClashPanel({
  list: byId("clash-list"), says: byId("clashes-says"), listen: () => state.listen, send,
  url: () => `/listen/clashes/${state.remake}/${state.sha}/${state.sections.indexOf(section())}.json`,
  bars: judged,
  frame: (clash) => {
    mark = clash;
    lanes.redraw();
  },
  hear: (url, louderDb) => {
    player.replaceRemake(url ?? state.listen, { louderDb });
    if (!player.isPlaying) player.play();
  },
});

const locked = new Set();
const solver = new Solver({
  tools: byId("solve-tools"), progress: byId("solving"), list: byId("changes"), says, home: host.dataset.home, locked,
  section: () => [state.sections.indexOf(section()), section().name], undo: () => byId("undo").click(),
  done: async () => {
    const answer = await fetch(`${host.dataset.home}state/`);
    if (answer.ok) show(await answer.json());
  },
});

let measuring = 0;
/** Levels of the section as the song now stands; what was measured before is shown until then. */
async function measure() {
  const mine = ++measuring, { from, to } = section(), { strips: of, sha } = state;
  const answer = await fetch(`/listen/lanes/${state.remake}/${state.sha}/${from}-${to}.json`).catch(() => null);
  if (mine !== measuring || !answer?.ok) return;
  levels = { ...(await answer.json()), of, sha };
  analyser.forget();
  lanes.redraw();
  // What else is to be measured waits until this is there.
  if (mine === measuring) clashes.look();
}

const draw = whenFree(host, drawAll);

function drawAll() {
  const focus = document.activeElement, key = focus?.getAttribute("aria-label");
  lanes.draw();
  drawPanel();
  drawSections();
  if (key && !document.contains(focus)) [...document.querySelectorAll("[aria-label]")].find((n) => n.getAttribute("aria-label") === key)?.focus({ preventScroll: true });
}

function drawSections() {
  byId("which-section").replaceChildren(...state.sections.map((s) => new Option(`${s.name}, bars ${s.start} to ${s.start + s.bars - 1}`, s.id, false, s.id === section().id)));
  for (const [id, sentence] of [["undo", state.undo], ["redo", state.redo]]) {
    byId(id).disabled = !sentence;
    byId(id).title = sentence ?? "";
  }
}

function drawPanel() {
  const strip = stripOf(picked) ?? wanted()[0], title = byId("strip-title");
  picked = strip.id;
  title.replaceChildren(node("span", "own", strip.name), node("span", "soft", { part: strip.role, bus: "bus", return: "return", master: "" }[strip.kind]));
  const tools = node("span", "tool right");
  if (strip.href) tools.append(Object.assign(node("a", "btn btn-tool", "Its sound"), { href: strip.href }));
  if (strip.kind === "bus" || strip.kind === "return") tools.append(
    button("Rename", () => editTitle(title.firstChild, strip.name, (name) => send({ kind: "rename_strip", strip: strip.id, name }))),
    button("Delete", () => send({ kind: "delete_strip", strip: strip.id }), "btn btn-link"),
  );
  if (strip.kind === "part" || strip.kind === "master") {
    const lock = button(locked.has(strip.id) ? "Locked" : "Lock", () => { if (!locked.delete(strip.id)) locked.add(strip.id); drawPanel(); });
    lock.setAttribute("aria-pressed", String(locked.has(strip.id)));
    lock.title = "Balance for me leaves it as it is";
    tools.append(lock);
  }
  const together = state.strips.filter((s) => (s.id === strip.id || lanes.chosen.has(s.id)) && (s.kind === "part" || s.kind === "bus"));
  if (strip.kind === "part" || strip.kind === "bus") {
    const group = button(together.length > 1 ? `Group ${together.length} strips` : "Add a bus", () => send({ kind: "add_bus", name: `${strip.name} bus`, of: together.map((s) => s.id), out: strip.out }));
    group.title = `A bus of ${together.map((s) => s.name).join(", ")}`;
    tools.append(group);
  }
  if (strip.kind === "return") tools.append(menu("Add a return", [["Reverb", () => send({ kind: "add_return", name: "Reverb 2", space: "reverb" })], ["Delay", () => send({ kind: "add_return", name: "Delay 2", space: "delay" })]]));
  title.append(tools);
  stripFigures(byId("strip-figures"), { strip, state, values, masterValues, act, send });
  stripSends(byId("strip-sends"), { strip, state, act, high: sendHighDb });
  ducking.draw();
  byId("add-effect").value = "";
  chain.draw();
  drawChainTools(strip);
}

function drawChainTools(strip) {
  chainTools(byId("chain-tools"), {
    strip, chains, isOff: off === strip.id, canBeOff: withoutAll(strip, 0).length > 0, off: () => hearOff(strip),
    others: state.strips.filter((s) => s.id !== strip.id).map((s) => [s.id, calledOf(s)]),
    save: async (name) => {
      const { ok, data } = await post(`${host.dataset.home}chain/${encodeURIComponent(strip.id)}/`, { name });
      says.textContent = ok ? "" : data.error;
      if (ok) ({ chains } = data);
      draw();
    },
    load: (saved) => chain.set((effects) => [...effects, ...saved.effects]).then(() => { if (!says.textContent) says.textContent = saved.lost; }),
    copyTo: (to) => send({ kind: "copy_chain", strip: strip.id, to }),
  });
}

/** Edits that switch everything of a strip off, its effects at the loudness `db` that they add. */
function withoutAll(strip, db) {
  const edits = strip.effects.some((e) => e.on) ? [{ kind: "switch_chain", strip: strip.id, on: false, bypass_db: db }] : [];
  if (strip.kind !== "master") return edits;
  const plain = { width: 1, mono_below_hz: 0 };
  if (strip.eq.length) edits.push({ kind: "set_master_eq", bands: [] });
  for (const [name, value] of Object.entries(plain)) if (strip.figures[name] !== value) edits.push({ kind: "set_strip", strip: strip.id, name, value });
  return edits;
}

/** The mix with everything of a strip off, or on again: both equally loud, by the strip and by the mix. */
async function hearOff(strip) {
  off = off === strip.id ? null : strip.id;
  drawPanel();
  if (!off) return listen();
  const wantedOff = off, answer = await fetch(`${host.dataset.home}level/${encodeURIComponent(strip.id)}/`).catch(() => null);
  const db = answer?.ok ? (await answer.json()).db : 0;
  const url = variantUrl(state.listen, { edit: { kind: "several", said: "Everything off", edits: withoutAll(strip, db) } }), louder = await louderDb(url, judged());
  if (off !== wantedOff) return null;
  await player.replaceRemake(url, { louderDb: louder });
  return player.isPlaying ? null : player.play();
}

function show(next) {
  state = next;
  off = null;
  for (const id of lanes.chosen) if (!state.strips.some((s) => s.id === id)) lanes.chosen.delete(id);
  live.clear();
  preview.update(wanted());
  byId("remake-title").textContent = state.title;
  draw();
  listen();
  measure();
}

byId("add-effect").append(new Option("…", ""), ...kinds.map(([kind, title]) => new Option(title, kind)));
byId("add-effect").addEventListener("change", (event) => { if (event.target.value) chain.add(event.target.value); });
byId("which-section").addEventListener("change", (event) => {
  sectionId = event.target.value;
  solver.draw(byId("solve-tools"));
  toSection();
  measure();
  act.pick(picked);
});

/** The last eight bars of the section that is looked at, which it is judged by: first and last. */
function judged() {
  const { from, to } = section();
  return [Math.max(from, to - 7), to];
}

/** The player loops the section that is looked at. */
function toSection() {
  const [from, to] = judged();
  player.loop = { start: from - 1, end: to };
  player.seek(player.loop.start);
}

/** One band alone, or all but it: of both tracks, from the next moment on. */
function hearBand() {
  player.aids.without = withoutBand.getAttribute("aria-pressed") === "true";
  withoutBand.disabled = !bandChoice.value;
  player.setAid("band", bandChoice.value);
}
bandChoice.addEventListener("change", hearBand);
withoutBand.addEventListener("click", () => {
  withoutBand.setAttribute("aria-pressed", String(withoutBand.getAttribute("aria-pressed") !== "true"));
  hearBand();
});

document.addEventListener("keydown", (event) => {
  if (!isForPage(event)) return;
  const ids = [...lanes.rows.keys()], at = ids.indexOf(picked);
  const to = { ArrowDown: ids[at + 1], ArrowUp: ids[at - 1] }[event.key];
  if (to && !event.target.closest("[role=slider], input, select, .dropdown-menu")) {
    event.preventDefault();
    if (event.shiftKey) for (const id of [picked, to]) lanes.chosen.add(id);
    else lanes.chosen.clear();
    act.pick(to);
    lanes.rows.get(to)?.row.querySelector(".lane-name").focus();
  } else if (event.key === "m") act.mute(picked);
  else if (event.key === "s") act.solo(picked);
});

window.addEventListener("resize", () => lanes.redraw());
document.fonts?.ready.then(() => lanes.redraw());
preview.rebase(state.sha, state.strips);
toSection();
drawAll();
measure();
meters.start();
/** The strips of the loop are loaded behind, so that the first touch of each is heard at once. */
player.onStart = async () => {
  for (const strip of state.strips) if (player.isPlaying) await preview.prefetch(strip.id);
};
