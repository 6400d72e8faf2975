// @ts-check
// A part's sound: its signal path with one block open, modulation, its effects, sounds to load instead, and pads to try it.
// The server keeps the song and computes every curve; this page sends edits and draws what comes back.

import { ChainEditor } from "./chain.js";
import { byId, dataOf, selectById } from "./dom.js";
import { readJson, redrawn } from "./draw.js";
import { edits, showSteps } from "./edits.js";
import { keptFocus } from "./focus.js";
import { pagePlayer } from "./frame.js";
import { latest, post } from "./http.js";
import { whenFree } from "./inhand.js";
import { modulationRows } from "./modulations.js";
import { Pads } from "./pads.js";
import { SignalPath } from "./signalpath.js";
import { SoundLibrary } from "./soundlibrary.js";
import { editTitle } from "./title.js";

/** @typedef {import("./states").PartState} PartState */

const host = byId("part"), says = byId("part-says"), keysSay = byId("keys-says"), player = pagePlayer();
/** @type {PartState & { browser: import("./states").BrowserState }} */
const first = readJson("drawing");
/** @type {PartState} */
let state = first;
const before = { note: state.note, sha: state.sha };
/** Whether keys and loop play the sound as it is, or as it was. */
let hearing = "now";
/** The note that the keys began with.
 *  @type {number | null} */
let middle = null;

const pads = new Pads(byId("pads"), player, (sentence) => { keysSay.textContent = sentence; });
const sendEdit = edits({ url: dataOf(host, "edit"), says, revision: () => state.revision, show, refused: () => draw() });
const ofPart = (/** @type {object} */ edit) => ({ part: state.part.id, strip: state.part.id, ...edit });
const send = (/** @type {object} */ edit) => sendEdit(() => ofPart(edit));
/** An edit made from what stands when its turn comes. */
const sendMade = (/** @type {() => object | null} */ make) => sendEdit(() => {
  const edit = make();
  return edit && ofPart(edit);
});

const preparing = latest(dataOf(host, "preview"));
/** What an edit would draw.
 *  @param {object} edit
 *  @param {(data: any) => void} drawn */
const preview = (edit, drawn) => preparing({ edit: ofPart(edit) }, drawn);

/** @param {PartState} next */
function show(next) {
  state = next;
  library.auditioned = null;
  byId("remake-title").textContent = state.title;
  heard();
  draw();
}

/** The loop goes on with the sound as it is, or as it was, equally loud. */
const heard = () => player.replaceRemake(hearing === "now" ? state.listen : `${state.listen}was/${before.sha}/${state.part.id}/`, { bars: state.bars });

const draw = whenFree(host, drawAll);

const library = new SoundLibrary({
  browser: first.browser, host, says, player, pads, state: () => state, send, heard, opened: (block) => { path.open = block; },
  changed: () => {
    fillChains();
    path.draw();
  },
});
const path = new SignalPath({
  tabs: byId("path"), box: byId("block"), sound: () => state.sound, samples: () => library.browser.samples, partId: () => state.part.id, partName: () => state.part.name, send, preview,
});
const chain = new ChainEditor({
  list: byId("chain"), panel: byId("effect"), effects: () => state.effects, send: sendMade, preview, ducker: () => state.ducker,
  bypassUrl: (i) => `${dataOf(host, "home")}${state.part.id}/level/${i}/`, parts: () => state.parts.filter(([id]) => id !== state.part.id),
});

function drawAll() {
  // A value that is being stepped keeps the focus through the redrawing.
  const focused = keptFocus();
  drawHead();
  path.draw();
  byId("mods-box").hidden = !state.sound.sources.length;
  if (state.sound.sources.length) modulationRows(byId("mods"), state.sound, (make) => sendMade(() => ({ kind: "set_modulations", modulations: make(state.sound.modulations) })));
  chain.draw();
  library.draw();
  const { pitched, pictures } = state.sound;
  pads.show({ base: state.part.middle === middle ? undefined : state.part.middle, url: hearing === "now" ? state.note : before.note, key: state.key, pitched, slices: pictures.slices ? pictures.slices.length - 1 : 0 });
  middle = state.part.middle;
  for (const id of ["octave-down", "octave-up"]) byId(id).hidden = !pitched;
  focused();
}

function drawHead() {
  byId("sound-name").textContent = `${state.part.name}: ${state.sound.name || "own sound"}`;
  byId("voice-name").textContent = state.sound.title.toLowerCase();
  byId("gone").hidden = !state.sound.gone.length;
  which.replaceChildren(...state.parts.map(([id, name, sound]) => new Option(`${name}: ${sound}`, id, false, id === state.part.id)));
  showSteps(state);
  byId("ab-now").setAttribute("aria-pressed", String(hearing === "now"));
  byId("ab-saved").setAttribute("aria-pressed", String(hearing === "saved"));
}

function fillChains() {
  const { chains } = library.browser;
  byId("chains-label").hidden = !chains.length;
  savedChain.replaceChildren(new Option("…", ""), ...chains.map((c) => new Option(c.name, String(c.id))));
}

/** Saves the sound or the chain under a name that is asked for in its heading.
 *  @param {"sound" | "chain"} what
 *  @param {HTMLElement} place
 *  @param {string} proposed */
function save(what, place, proposed) {
  editTitle(place, proposed, async (name) => {
    const answer = await post(dataOf(host, "save"), { what, name });
    library.take(answer);
    if (answer.ok && what === "sound") Object.assign(before, { note: state.note, sha: state.sha });
  }, `Name of the ${what}`);
}

const which = selectById("which-part"), newEffect = selectById("add-effect"), savedChain = selectById("add-chain");
which.addEventListener("change", () => location.assign(`${dataOf(host, "home")}${which.value}/`));
newEffect.append(new Option("…", ""), ...first.browser.kinds.map(([kind, title]) => new Option(title, kind)));
newEffect.addEventListener("change", () => {
  if (newEffect.value) chain.add(newEffect.value);
  newEffect.value = "";
});
savedChain.addEventListener("change", () => {
  const saved = library.browser.chains.find((c) => String(c.id) === savedChain.value);
  if (saved) chain.set((effects) => [...effects, ...saved.effects]).then(() => { if (!says.textContent) says.textContent = saved.lost; });
  savedChain.value = "";
});
byId("keep-sound").addEventListener("click", () => save("sound", byId("sound-name"), state.sound.name || state.part.name));
byId("keep-chain").addEventListener("click", () => save("chain", byId("chain-name"), `${state.part.name} chain`));
for (const [id, when] of [["ab-now", "now"], ["ab-saved", "saved"]]) byId(id).addEventListener("click", () => { hearing = when; heard(); draw(); });
byId("octave-down").addEventListener("click", () => pads.octave(-1));
byId("octave-up").addEventListener("click", () => pads.octave(1));

const record = byId("take-down"), keepLine = byId("keep-line");
record.hidden = !state.pattern;
record.addEventListener("click", (event) => {
  // Space belongs to the player again once the pointer has done its work.
  if (event.detail) record.blur();
  const on = record.getAttribute("aria-pressed") !== "true";
  record.setAttribute("aria-pressed", String(on));
  if (on) {
    pads.record();
    keysSay.textContent = player.isPlaying ? "play along" : "start the player, then play along";
  } else {
    pads.stop();
    keysSay.textContent = pads.line.length ? "" : "nothing was played";
  }
  keepLine.hidden = on || !pads.line.length;
});
keepLine.addEventListener("click", () => {
  if (!state.pattern) return;
  const { name, bars, sections } = state.pattern, begun = pads.line[0].bar;
  const [start] = sections.find(([bar, length]) => begun >= bar - 1 && begun < bar - 1 + length) ?? [1];
  keepLine.hidden = true;
  const notes = pads.notes(start - 1, bars);
  send({ kind: "write_notes", pattern: name, bars, notes, said: `${notes.length} notes recorded` });
});

fillChains();
redrawn(draw);
