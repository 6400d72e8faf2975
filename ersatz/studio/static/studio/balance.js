// @ts-check
// Balance: the whole mix on the frequency axis, strip by strip. The server keeps the song; this page sends edits, draws what comes back,
// and plays a change at once over the running loop until the true render is there.

import { asked, remember } from "./address.js";
import { AllOff, withoutAll } from "./alloff.js";
import { Analyser } from "./analyser.js";
import { ChainEditor } from "./chain.js";
import { chainTools } from "./chaintools.js";
import { ClashPanel } from "./clashes.js";
import { buttonById, byId, dataOf, selectById } from "./dom.js";
import { readJson } from "./draw.js";
import { DuckingPanel } from "./ducking.js";
import { edits, showSteps } from "./edits.js";
import { keptFocus } from "./focus.js";
import { pagePlayer } from "./frame.js";
import { latest, post } from "./http.js";
import { whenFree } from "./inhand.js";
import { isForPage } from "./keys.js";
import { calledOf, LaneRows } from "./lanes.js";
import { MixMeters } from "./meters.js";
import { Mix } from "./mix.js";
import { MixActs } from "./mixacts.js";
import { Preview } from "./preview.js";
import { Solver } from "./solve.js";
import { stripFigures, stripHead, stripSends } from "./strippanel.js";
import { variantUrl } from "./variant.js";
import { SIX_BANDS } from "./ways.js";

const host = byId("balance"), says = byId("balance-says"), home = dataOf(host, "home"), player = pagePlayer();
/** Placed beside the mix's name as the lanes are drawn. */
const bandChoice = selectById("band"), withoutBand = buttonById("without-band"), whichSection = selectById("which-section"), newEffect = selectById("add-effect");
const { values, masterValues, sendHighDb, mostDuckedDb, kinds, dynamics, reference, headroomDb, ...first } = /** @type {import("./states").BalanceState & import("./states").BalanceFixed} */ (readJson("drawing"));
const mix = new Mix(first, (strip) => {
  preview.update(mix.wanted());
  lanes.show(strip);
});
let picked = mix.state.strips.find((s) => s.id === asked.get("strip"))?.id ?? mix.state.strips[0].id, { chains } = first;
/** @type {import("./lanes.js").MixLevels | null} */
let levels = null;
/** @type {import("./clashes.js").Clash | null} */
let mark = null;
/** Ids of the strips that Balance for me leaves as they are.
 *  @type {Set<string>} */
const locked = new Set();

const send = edits({
  url: dataOf(host, "edit"), says, revision: () => mix.state.revision, show,
  refused: () => {
    mix.live.clear();
    draw();
    preview.update(mix.wanted());
  },
});

const preview = new Preview({
  player, bars: mix.state.bars, headroomDb,
  onState: (isExact) => { byId("exact").textContent = isExact || !player.isPlaying ? "" : "heard at once; exact in a moment"; },
});

const chain = new ChainEditor({
  list: byId("chain"), panel: byId("effect"), effects: () => mix.state.strips.find((s) => s.id === picked)?.effects ?? [],
  send: (make) => send(() => {
    const edit = make();
    return edit && { strip: picked, ...edit };
  }),
  preview: previewed, bypassUrl: (i) => `${home}level/${encodeURIComponent(picked)}/${i}/`,
  parts: () => mix.state.strips.filter((s) => s.kind === "part" && s.id !== picked).map((s) => [s.id, s.name]),
});

const preparing = latest(dataOf(host, "preview"));
/** What an edit would draw, and sound like.
 *  @param {object} edit
 *  @param {(data: any) => void} drawn */
function previewed(edit, drawn) {
  const strip = picked;
  preparing({ edit: { strip, ...edit } }, (data) => {
    drawn(data);
    mix.hold(strip, { effects: data.effects });
  });
}

/** @param {string} id */
function pick(id) {
  picked = id;
  chain.open = 0;
  lanes.picked = id;
  draw();
  remember({ section: section().id, strip: id });
}

/** A name pressed: with Ctrl it is one more of those chosen, with Shift all up to it are.
 *  @param {string} id
 *  @param {MouseEvent} event */
function choose(id, event) {
  const { chosen } = lanes, ids = [...lanes.rows.keys()];
  if (event.ctrlKey || event.metaKey) {
    if (!chosen.size) chosen.add(picked);
    if (!chosen.delete(id)) chosen.add(id);
  } else if (event.shiftKey) {
    const [from, to] = [ids.indexOf(picked), ids.indexOf(id)].sort((a, b) => a - b);
    for (const each of ids.slice(from, to + 1)) chosen.add(each);
  } else chosen.clear();
  if (!event.shiftKey) pick(id);
  else draw();
}

const act = new MixActs({ mix, send, preview, pick, choose, listen, drawn: () => lanes.draw(), redrawn: () => lanes.redraw() });

/** The remake as it stands, or its soloed parts; the preview carries over until that plays. */
async function listen() {
  const { state } = mix, heard = mix.soloed(), url = heard.length ? variantUrl(state.listen, { heard }) : state.listen;
  preview.setSolo(heard.length && player.tracks.remake?.url !== url ? [...mix.solo] : null);
  await player.replaceRemake(url, { bars: state.bars });
  if (state.sha !== mix.state.sha) return;
  preview.setSolo(null);
  preview.rebase(state, mix.wanted());
}

let sectionId = mix.state.sections.find((s) => s.id === asked.get("section"))?.id ?? mainSection();

/** The longest drop, or the first section. */
function mainSection() {
  const drops = mix.state.sections.filter((s) => s.name.startsWith("drop"));
  return (drops.sort((a, b) => b.bars - a.bars)[0] ?? mix.state.sections[0]).id;
}
const section = () => mix.state.sections.find((s) => s.id === sectionId) ?? mix.state.sections[0];

/** The last eight bars of the section that is looked at, which it is judged by: first and last.
 *  @returns {[number, number]} */
function judged() {
  const { first, last } = section();
  return [Math.max(first, last - 7), last];
}

const analyser = new Analyser({
  strips: () => mix.wanted(), levels: () => levels, meter: byId("mix-meter"), hear: byId("hear-band"), called: calledOf,
  fine: async (id) => {
    const at = levels && `${levels.listen}fine/${encodeURIComponent(id)}/${levels.from}-${levels.to}.json`;
    const answer = at ? await fetch(at).catch(() => null) : null;
    return answer?.ok ? answer.json() : null;
  },
});
const lanes = new LaneRows(byId("lanes"), { mix, levels: () => levels, marks: () => mark, act, analyser });
lanes.picked = picked;
const meters = new MixMeters({
  player, url: () => `${mix.state.listen}meters/`, rows: lanes.rows, mix: analyser.meter, bars: () => mix.state.bars,
  takenUrl: () => (mix.find(picked)?.effects.some((e) => e.on && dynamics.includes(e.kind)) ? `${mix.state.listen}reductions/${encodeURIComponent(picked)}/` : ""),
  taken: (db) => chain.showTaken(db), isMeasured: () => player.tracks.remake?.url === mix.state.listen,
});
const ducking = new DuckingPanel({ box: byId("ducking-box"), send, state: () => mix.state, reference, picked: () => picked, most: mostDuckedDb, home });
const allOff = new AllOff({ player, levelUrl: (id) => `${home}level/${encodeURIComponent(id)}/`, listen: () => mix.state.listen, bars: judged });

const clashes = new ClashPanel({
  list: byId("clash-list"), says: byId("clashes-says"), listen: () => mix.state.listen, send,
  url: () => `${mix.state.listen}clashes/${mix.state.sections.indexOf(section())}.json`,
  bars: judged,
  frame: (clash) => {
    mark = clash;
    lanes.redraw();
  },
  hear: (url, louderDb) => {
    player.replaceRemake(url ?? mix.state.listen, { louderDb });
    if (!player.isPlaying) player.play();
  },
});

const solver = new Solver({
  tools: byId("solve-tools"), progress: byId("solving"), list: byId("changes"), says, home, locked,
  section: () => [mix.state.sections.indexOf(section()), section().name], undo: () => byId("undo").click(),
  done: async () => {
    const answer = await fetch(`${home}state/`);
    if (answer.ok) show(await answer.json());
  },
});

let measuring = 0;
/** Levels of the section as the song now stands; what was measured before is shown until then. */
async function measure() {
  const mine = ++measuring, { first, last } = section(), { strips: of, listen } = mix.state;
  const answer = await fetch(`${listen}lanes/${first}-${last}.json`).catch(() => null);
  if (mine !== measuring) return;
  if (answer?.ok) {
    levels = { ...(await answer.json()), of, listen };
    analyser.forget();
    lanes.redraw();
  }
  // What else is to be measured waits until this is there.
  if (mine === measuring) clashes.look();
}

const draw = whenFree(host, drawAll);

function drawAll() {
  const focused = keptFocus();
  lanes.draw();
  drawPanel();
  whichSection.replaceChildren(...mix.state.sections.map((s) => new Option(`${s.name}, bars ${s.start} to ${s.start + s.bars - 1}`, s.id, false, s.id === section().id)));
  showSteps(mix.state);
  focused();
}

function drawPanel() {
  const focused = keptFocus();
  const strip = mix.find(picked) ?? mix.wanted()[0], { state } = mix;
  picked = strip.id;
  const together = state.strips.filter((s) => (s.id === strip.id || lanes.chosen.has(s.id)) && (s.kind === "part" || s.kind === "bus"));
  stripHead(byId("strip-title"), {
    strip, together, send, isLocked: locked.has(strip.id),
    lock: () => {
      if (!locked.delete(strip.id)) locked.add(strip.id);
      drawPanel();
    },
  });
  stripFigures(byId("strip-figures"), { strip, state, values, masterValues, act, send });
  stripSends(byId("strip-sends"), { strip, state, act, high: sendHighDb });
  ducking.draw();
  newEffect.value = "";
  chain.draw();
  chainTools(byId("chain-tools"), {
    strip, chains, isOff: allOff.strip === strip.id, canBeOff: withoutAll(strip, 0).length > 0, off: () => hearOff(strip),
    others: state.strips.filter((s) => s.id !== strip.id).map((s) => [s.id, calledOf(s)]),
    save: async (name) => {
      const { ok, data } = await post(`${home}chain/${encodeURIComponent(strip.id)}/`, { name });
      says.textContent = ok ? "" : data.error;
      if (ok) ({ chains } = data);
      draw();
    },
    load: (saved) => chain.set((effects) => [...effects, ...saved.effects]).then(() => { if (!says.textContent) says.textContent = saved.lost; }),
    copyTo: (to) => send({ kind: "copy_chain", strip: strip.id, to }),
  });
  focused();
}

/** @param {import("./mix.js").Strip} strip */
function hearOff(strip) {
  const isOver = allOff.strip === strip.id;
  allOff.strip = null;
  if (isOver) listen();
  else allOff.hear(strip);
  drawPanel();
}

/** @param {import("./states").BalanceState} next */
function show(next) {
  mix.state = next;
  allOff.strip = null;
  for (const id of lanes.chosen) if (!next.strips.some((s) => s.id === id)) lanes.chosen.delete(id);
  mix.live.clear();
  preview.update(mix.wanted());
  // What plays comes first, before anything is drawn; measuring renders the same bars.
  const playing = listen();
  byId("remake-title").textContent = next.title;
  draw();
  clashes.changed();
  playing.then(measure);
}

newEffect.append(new Option("…", ""), ...kinds.map(([kind, title]) => new Option(title, kind)));
newEffect.addEventListener("change", () => { if (newEffect.value) chain.add(newEffect.value); });
whichSection.addEventListener("change", () => {
  sectionId = whichSection.value;
  solver.draw(byId("solve-tools"));
  clashes.changed();
  toSection();
  measure();
  pick(picked);
});

/** The player loops the section that is looked at. */
function toSection() {
  const [from, to] = judged();
  player.loop = { start: from - 1, end: to };
  player.seek(from - 1);
}

/** One band alone, or all but it: of both tracks, from the next moment on. */
function hearBand() {
  withoutBand.disabled = !bandChoice.value;
  player.setAid({ band: bandChoice.value, without: withoutBand.getAttribute("aria-pressed") === "true" });
}
bandChoice.append(...SIX_BANDS.map(([value, title]) => new Option(title, value)));
bandChoice.addEventListener("change", hearBand);
withoutBand.addEventListener("click", () => {
  withoutBand.setAttribute("aria-pressed", String(withoutBand.getAttribute("aria-pressed") !== "true"));
  hearBand();
});

document.addEventListener("keydown", (event) => {
  if (!isForPage(event)) return;
  const ids = [...lanes.rows.keys()], at = ids.indexOf(picked), to = event.key === "ArrowDown" ? ids[at + 1] : event.key === "ArrowUp" ? ids[at - 1] : undefined;
  if (to && !/** @type {Element} */ (event.target).closest("[role=slider], input, select, .dropdown-menu")) {
    event.preventDefault();
    if (event.shiftKey) for (const id of [picked, to]) lanes.chosen.add(id);
    else lanes.chosen.clear();
    pick(to);
    /** @type {HTMLElement | null | undefined} */ (lanes.rows.get(to)?.row.querySelector(".lane-name"))?.focus();
  } else KEYS[event.key]?.();
});

/** @type {Record<string, () => void>} */
const KEYS = {
  m: () => act.mute(picked),
  s: () => act.solo(picked),
  a: () => analyser.opener.click(),
  b: () => {
    bandChoice.selectedIndex = (bandChoice.selectedIndex + 1) % bandChoice.options.length;
    hearBand();
  },
  n: () => { if (bandChoice.value) withoutBand.click(); },
};

window.addEventListener("resize", () => lanes.redraw());
document.fonts?.ready.then(() => lanes.redraw());
preview.rebase(mix.state);
toSection();
drawAll();
measure();
meters.start();
/** The strips of the loop are loaded behind, so that the first touch of each is heard at once. */
player.onStart = async () => {
  for (const strip of mix.state.strips) if (player.isPlaying) await preview.prefetch(strip.id);
};
