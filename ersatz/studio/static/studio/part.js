// A part's sound: its signal path with one block open, modulation, its effects, sounds to load instead, and pads to try it.
// The server keeps the song and computes every curve; this page sends edits and draws what comes back.

import { ChainEditor } from "./chain.js";
import { redrawCurve } from "./curves.js";
import { button, node, selectBox } from "./dom.js";
import { readJson, redrawn, svgOf } from "./draw.js";
import { edits } from "./edits.js";
import { choiceField, numberField, shown } from "./fields.js";
import { player } from "./frame.js";
import { latest, post } from "./http.js";
import { whenFree } from "./inhand.js";
import { Pads } from "./pads.js";
import { drawBlock } from "./soundcurves.js";
import { described, fits, soundRow } from "./soundpicker.js";
import { variantUrl } from "./variant.js";

/** Longer addresses are cut by web servers. */
const MOST_ADDRESS = 3800;
const byId = (id) => document.getElementById(id);
const host = byId("part"), says = byId("part-says");
let state = readJson("drawing");
let browser = state.browser;
const before = { note: state.note, sha: state.sha };
let open = Object.keys(state.sound.blocks)[0], hearing = "now", middle = null;
const pads = new Pads(byId("pads"), player, (sentence) => { byId("keys-says").textContent = sentence; });


const sendEdit = edits({ url: host.dataset.edit, says, revision: () => state.revision, show, refused: () => draw() });
const send = (edit) => sendEdit(() => ({ part: state.part.id, strip: state.part.id, ...(typeof edit === "function" ? edit() : edit) }));

const preparing = latest(host.dataset.preview);
/** What an edit would draw. */
const preview = (edit, drawn) => preparing({ edit: { part: state.part.id, strip: state.part.id, ...edit } }, drawn);

function show(next) {
  state = next;
  auditioned = null;
  byId("remake-title").textContent = state.title;
  heard();
  draw();
}

/** The loop goes on with the sound as it is, or as it was, equally loud. */
const heard = () => player?.replaceRemake(hearing === "now" ? state.listen : `${state.listen}${state.part.id}/${before.sha}/`, { bars: state.bars });

const draw = whenFree(host, drawAll);

function drawAll() {
  // A value that is being stepped keeps the focus through the redrawing.
  const focus = document.activeElement?.dataset?.name;
  drawHead();
  drawPath();
  drawOpen();
  drawModulations();
  chain.draw();
  pads.show({ base: state.part.middle === middle ? undefined : state.part.middle, url: hearing === "now" ? state.note : before.note, key: state.key, pitched: state.sound.pitched, slices: state.sound.pictures.slices ? state.sound.pictures.slices.length - 1 : 0 });
  middle = state.part.middle;
  for (const id of ["octave-down", "octave-up"]) byId(id).hidden = !state.sound.pitched;
  if (focus) host.querySelector(`[data-name="${focus}"]`)?.focus();
}

function drawHead() {
  byId("sound-name").textContent = `${state.part.name}: ${state.sound.name || "own sound"}`;
  byId("voice-name").textContent = state.sound.title.toLowerCase();
  byId("gone").hidden = !state.sound.gone.length;
  for (const [id, sentence] of [["undo", state.undo], ["redo", state.redo]]) {
    byId(id).disabled = !sentence;
    byId(id).textContent = id === "undo" ? "Undo" : "Redo";
    byId(id).title = sentence ?? "";
  }
  byId("ab-now").setAttribute("aria-pressed", String(hearing === "now"));
  byId("ab-saved").setAttribute("aria-pressed", String(hearing === "saved"));
}

// Signal path ---------------------------------------------------------------------------------------------------------

const value = (id, name) => state.sound.blocks[id].params.find((p) => p.name === name)?.value;
const picked = (id, end) => state.sound.blocks[id].choices.find((c) => c.name.endsWith(end))?.value;

/** What a block says of itself beneath its curve. */
function summary(id) {
  const { kind, number } = state.sound.blocks[id];
  const said = {
    oscillator: () => (value(id, `${id}_level`) ? `${picked(id, "wave")}${value(id, `${id}_voices`) > 1 ? ` × ${value(id, `${id}_voices`)}` : ""}` : "silent"),
    filter: () => picked(id, "kind"),
    sample: () => (state.sound.gone.length ? "gone" : picked(id, "direction")),
    time: () => (value(id, "time_beats") ? `${shown(value(id, "time_beats"))} beats` : picked(id, "time_mode")),
    loop: () => picked(id, "mode"),
    slices: () => (picked(id, "mode") === "off" ? "off" : `${picked(id, "mode")}${state.sound.pictures.slices ? `: ${state.sound.pictures.slices.length - 1}` : ""}`),
    mix: () => (value(id, "drive") ? `drive ${value(id, "drive").toFixed(2)}` : "clean"),
    notes: () => picked(id, "mode"),
    lfo: () => (picked(id, "rate") === "Hz" ? `${value(id, `${id}_hz`).toPrecision(2)} Hz` : picked(id, "rate")),
  }[kind];
  // The first envelope is the level's; what moves nothing says so.
  const moves = { lfo: `lfo ${number}`, envelope: `envelope ${number}` }[kind];
  if (moves && !(kind === "envelope" && number === 1) && !state.sound.modulations.some((m) => m.source === moves)) return "unused";
  return said?.() ?? "";
}

function drawPath() {
  const ids = Object.keys(state.sound.blocks);
  if (!ids.includes(open)) open = ids[0];
  byId("path").hidden = ids.length < 2;
  byId("path").replaceChildren(...ids.map((id) => {
    const tab = button("", () => { open = id; drawPath(); drawOpen(); byId("path").querySelector("[aria-selected=true]").focus(); }, "stage");
    tab.setAttribute("role", "tab");
    tab.setAttribute("aria-selected", String(id === open));
    tab.tabIndex = id === open ? 0 : -1;
    const svg = svgOf("mini");
    svg.setAttribute("aria-hidden", "true");
    const name = node("b"), said = node("small");
    name.textContent = state.sound.blocks[id].title;
    said.textContent = summary(id);
    tab.append(name, svg, said);
    tab.addEventListener("keydown", (event) => {
      const by = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
      if (!by) return;
      event.preventDefault();
      open = ids[(ids.indexOf(id) + by + ids.length) % ids.length];
      drawPath();
      drawOpen();
      byId("path").querySelector("[aria-selected=true]").focus();
    });
    return tab;
  }));
  byId("path").querySelectorAll(".stage").forEach((tab, i) => drawBlock(tab.querySelector("svg"), ids[i], state.sound));
}

const blockApi = {
  set: (name, v) => send({ kind: "set_sound_value", name, value: v }),
  /** What one gesture changes is one step back. */
  setAll: (values) => {
    const edits = Object.entries(values).map(([name, v]) => ({ kind: "set_sound_value", part: state.part.id, name, value: v }));
    const said = (p) => `${p.title} ${shown(values[p.name])}${p.unit && ` ${p.unit}`}`;
    if (edits.length === 1) send(edits[0]);
    else if (edits.length) sendEdit({ kind: "several", said: `${state.part.name}: ${state.sound.blocks[open].params.filter((p) => p.name in values).map(said).join(", ")}`, edits });
  },
  preview: (name, v) => preview({ kind: "set_sound_value", name, value: v }, (data) => redrawCurve(byId("block"), (svg) => drawBlock(svg, open, data.sound))),
  shape: (name, points) => send({ kind: "set_shape", name, points }),
};

function drawOpen() {
  const box = byId("block"), { choices, params, title } = state.sound.blocks[open];
  const svg = svgOf("large"), fields = node("div");
  svg.setAttribute("aria-label", `${title}, curve`);
  svg.setAttribute("role", "group");
  fields.className = "fields";
  fields.append(
    ...choices.map((c) => choiceField(c, (option) => send({ kind: "set_sound_choice", name: c.name, option }))),
    ...slotFields(),
    ...params.map((p) => numberField(p, (v) => blockApi.set(p.name, v), (v) => blockApi.preview(p.name, v))),
  );
  box.replaceChildren(svg, fields);
  const has = Object.keys(state.sound.pictures).length && drawBlock(svg, open, state.sound, blockApi);
  if (!has) svg.remove();
}

/** Which of the producer's samples a slot of the open block plays. */
function slotFields() {
  const { kind } = state.sound.blocks[open];
  const slot = kind === "sample" ? "sample" : kind === "oscillator" && picked(open, "wave") === "own table" ? `${open}_table` : null;
  if (!slot) return [];
  const sha = state.sound.samples[slot], own = browser.samples.find((s) => s.sha === sha);
  const none = sha ? "gone" : "none yet";
  const row = choiceField({ name: `slot-${slot}`, title: slot === "sample" ? "Sample" : "Table from", options: [...(own ? [] : [none]), ...browser.samples.map((s) => s.name)], value: own?.name ?? none }, (name) => {
    const chosen = browser.samples.find((s) => s.name === name);
    if (chosen) send({ kind: "set_sample", slot, sample: chosen.sha, name: chosen.name });
  });
  return [row];
}

// Modulation ---------------------------------------------------------------------------------------------------------

function drawModulations() {
  const { sources, targets, modulations } = state.sound;
  byId("mods-box").hidden = !sources.length;
  const put = (make) => send(() => ({ kind: "set_modulations", modulations: make(state.sound.modulations) }));
  const rows = modulations.map((m, i) => {
    const row = node("div");
    row.className = "mod";
    const change = (part) => put((list) => list.map((old, k) => (k === i ? { ...old, ...part } : old)));
    const target = targets.find(([name]) => name === m.target);
    const unit = target?.[2] === "octaves" ? "oct" : target?.[2] === "semitones" ? "st" : "";
    row.append(
      choiceField({ name: `mod${i}s`, title: "Source", options: sources, value: m.source }, (source) => change({ source })),
      targetField(targets, m.target, (name) => change({ target: name })),
      numberField({ name: `mod${i}a`, title: "Amount", unit, low: -48, high: 48, value: m.amount, scale: "linear", step: 0 }, (amount) => change({ amount })),
      button("Delete", () => put((list) => list.filter((_, k) => k !== i)), "btn btn-link"),
    );
    return row;
  });
  const add = button("Add a modulation", () => put((list) => [...list, { source: sources[0], target: "filter1_hz", amount: 1 }]));
  byId("mods").replaceChildren(...rows, add);
}

function targetField(targets, chosen, set) {
  const row = node("label"), name = node("span"), select = selectBox();
  row.className = "field choice-field wide";
  name.textContent = "Target";
  select.dataset.name = `target-${chosen}`;
  for (const [id, title] of targets) select.add(new Option(title, id, false, id === chosen));
  select.addEventListener("change", () => set(select.value));
  row.append(name, select);
  return row;
}

// Effects -------------------------------------------------------------------------------------------------------------

const chain = new ChainEditor({
  list: byId("chain"), panel: byId("effect"), effects: () => state.effects, send, preview, ducker: () => state.ducker,
  bypassUrl: (i) => `${host.dataset.home}${state.part.id}/level/${i}/`, parts: () => state.parts.filter(([id]) => id !== state.part.id),
});

// Sounds to load ------------------------------------------------------------------------------------------------------

/** A row of the list, with what is the part's own marked, and what is the producer's own to be deleted. */
function listRow(sound, { taken, forget, also, ...row }) {
  const item = soundRow(sound, { play: audition, ...row });
  if (taken) item.className = "taken";
  if (also) item.append(also);
  if (forget) {
    const away = button("×", forget, "btn btn-link btn-square");
    away.setAttribute("aria-label", `Delete ${sound.name}`);
    item.append(away);
  }
  return item;
}

let auditioned = null;

/** A sound by itself; in the running loop where it plays, until it is played once more or another change is made. */
function audition(listen, name) {
  const sound = browser.sounds.find((s) => s.listen === listen), edit = { kind: "load_sound", part: state.part.id };
  if (sound) Object.assign(edit, sound.id ? { sound: sound.sound } : { shipped: sound.name });
  const url = sound && player?.isPlaying ? variantUrl(state.listen, { edit }) : "";
  if (!url || url.length > MOST_ADDRESS) {
    pads.playUrl(listen).catch(() => { says.textContent = `“${name}” could not be loaded. Is Ersatz still running?`; });
    return;
  }
  auditioned = auditioned === name ? null : name;
  if (auditioned) player.replaceRemake(url, { bars: state.bars });
  else heard();
  drawBrowser();
}

function drawBrowser() {
  const role = byId("by-role").value, tone = byId("by-tone").value, find = byId("by-text").value.trim().toLowerCase();
  const found = browser.sounds.filter((s) => (!role || s.role === role) && (!tone || s.brightness === tone) && (!find || fits(s, s.role, find)));
  byId("sounds").replaceChildren(...found.map((s) => listRow(s, {
    more: s.name === auditioned ? "in the loop now; press again for the part’s own" : described(s),
    taken: s.name === state.sound.name,
    take: ["Load", `Load ${s.name}`, () => send({ kind: "load_sound", ...(s.id ? { sound: s.sound } : { shipped: s.name }) }).then(drawLists)],
    forget: s.id && (async () => keepBrowser(await post(`/sounds/forget/sound/${s.id}/`, { role: state.part.role, remake: state.remake }))),
  })));
  if (!found.length) byId("sounds").textContent = "No sound fits. Another role or tone?";
}

/** What can be taken, with what the part has marked. */
function drawLists() {
  drawBrowser();
  drawSamples();
  byId("which-part").replaceChildren(...state.parts.map(([id, name, sound]) => new Option(`${name}: ${sound}`, id, false, id === state.part.id)));
}

function keepBrowser({ ok, data }) {
  says.textContent = ok ? "" : data.error;
  if (!ok) return;
  browser = data;
  drawLists();
  fillChains();
}

// Samples that the producer brought ------------------------------------------------------------------------------------

function drawSamples() {
  byId("samples").replaceChildren(...browser.samples.map((s) => listRow(s, {
    more: s.seconds < 1 ? `${Math.round(s.seconds * 1000)} ms` : `${s.seconds.toFixed(2)} s`,
    taken: s.sha === state.sound.samples.sample,
    take: ["Load", `Load ${s.name} into this part`, () => { open = "sample"; send({ kind: "set_sample", slot: "sample", sample: s.sha, name: s.name }).then(drawLists); }],
    also: s.seconds >= 0.8 && s.seconds <= 60 && s.sha === state.sound.samples.sample ? loopTools(s) : null,
    forget: async () => {
      keepBrowser(await post(`/sounds/forget/sample/${s.id}/`, { role: state.part.role, remake: state.remake }));
      // What the part plays has changed without an edit.
      if (Object.values(state.sound.samples).includes(s.sha)) location.reload();
    },
  })));
  byId("no-samples").hidden = browser.samples.length > 0;
}

const readings = new Map();

/** A loop's own tempo and key, and the ways to fit it to the song: for the sample that the part plays. */
function loopTools(sample) {
  const box = node("div"), known = readings.get(sample.id);
  box.className = "loop-tools";
  if (!known) {
    box.append(button("Read its tempo and key", async () => {
      byId("samples-say").textContent = `reading ${sample.name}`;
      const answer = await fetch(`${host.dataset.home}${state.part.id}/loop/${sample.id}/`), data = await answer.json();
      byId("samples-say").textContent = "";
      if (answer.ok) readings.set(sample.id, data);
      else says.textContent = data.error ?? "The sample could not be read.";
      drawSamples();
    }, "btn btn-link"));
    return box;
  }
  const said = node("small");
  said.textContent = known.said;
  box.append(said, button("Fit to the tempo", () => send(known.fits)), button(`and into ${known.key}`, () => send(known.fitsKey)));
  return box;
}

async function bring(files) {
  for (const file of files) {
    const body = new FormData();
    body.append("file", file);
    body.append("role", state.part.role);
    body.append("remake", state.remake);
    byId("samples-say").textContent = `reading ${file.name}`;
    const answer = await post(host.dataset.samples, body);
    byId("samples-say").textContent = "";
    keepBrowser(answer);
    if (!answer.ok) return;
  }
  drawOpen();
}

byId("sample-file").addEventListener("change", async (event) => {
  await bring([...event.target.files]);
  event.target.value = "";
});
for (const name of ["dragenter", "dragover"]) byId("samples-box").addEventListener(name, (event) => {
  if (![...event.dataTransfer.types].includes("Files")) return;
  event.preventDefault();
  byId("samples-box").classList.add("over");
});
for (const name of ["dragleave", "drop"]) byId("samples-box").addEventListener(name, () => byId("samples-box").classList.remove("over"));
byId("samples-box").addEventListener("drop", (event) => {
  event.preventDefault();
  bring([...event.dataTransfer.files]);
});

function fillChains() {
  byId("chains-label").hidden = !browser.chains.length;
  byId("add-chain").replaceChildren(new Option("…", ""), ...browser.chains.map((c) => new Option(c.name, c.id)));
}

const keep = (what, asked, name) => {
  const chosen = window.prompt(asked, name);
  if (chosen?.trim()) post(host.dataset.save, { what, name: chosen.trim() }).then((answer) => {
    keepBrowser(answer);
    if (answer.ok && what === "sound") Object.assign(before, { note: state.note, sha: state.sha });
  });
};

// The page ------------------------------------------------------------------------------------------------------------

byId("which-part").addEventListener("change", (event) => location.assign(`${host.dataset.home}${event.target.value}/`));
const roles = [...new Set(browser.sounds.map((s) => s.role))];
byId("by-role").append(new Option("any", ""), ...roles.map((r) => new Option(r, r, false, r === browser.role)));
for (const id of ["by-role", "by-tone"]) byId(id).addEventListener("change", drawBrowser);
byId("by-text").addEventListener("input", drawBrowser);
byId("add-effect").append(new Option("…", ""), ...browser.kinds.map(([kind, title]) => new Option(title, kind)));
byId("add-effect").addEventListener("change", (event) => {
  if (!event.target.value) return;
  chain.add(event.target.value);
  event.target.value = "";
});
byId("add-chain").addEventListener("change", (event) => {
  const saved = browser.chains.find((c) => String(c.id) === event.target.value);
  if (saved) chain.set((effects) => [...effects, ...saved.effects]).then(() => { if (!says.textContent) says.textContent = saved.lost; });
  event.target.value = "";
});
byId("keep-sound").addEventListener("click", () => keep("sound", "Save this sound as", state.sound.name || state.part.name));
byId("keep-chain").addEventListener("click", () => keep("chain", "Save these effects as", `${state.part.name} chain`));
for (const [id, which] of [["ab-now", "now"], ["ab-saved", "saved"]]) byId(id).addEventListener("click", () => { hearing = which; heard(); draw(); });
byId("octave-down").addEventListener("click", () => pads.octave(-1));
byId("octave-up").addEventListener("click", () => pads.octave(1));

const take = byId("take-down"), keepLine = byId("keep-line");
take.hidden = !state.pattern;
take.addEventListener("click", (event) => {
  // Space belongs to the player again once the pointer has done its work.
  if (event.detail) take.blur();
  const on = take.getAttribute("aria-pressed") !== "true";
  take.setAttribute("aria-pressed", String(on));
  if (on) {
    pads.takeDown(true);
    byId("keys-says").textContent = player?.isPlaying ? "play along" : "start the player, then play along";
  } else byId("keys-says").textContent = pads.line?.length ? "" : "nothing was played";
  keepLine.hidden = on || !pads.line?.length;
});
keepLine.addEventListener("click", () => {
  const { name, bars, sections } = state.pattern;
  const first = pads.line[0].bar;
  const [start] = sections.filter(([bar, length]) => first >= bar - 1 && first < bar - 1 + length)[0] ?? [1];
  keepLine.hidden = true;
  const notes = pads.notes(start - 1, bars);
  send({ kind: "write_notes", pattern: name, bars, notes, said: `${notes.length} notes recorded` });
});

fillChains();
drawLists();
redrawn(draw);
