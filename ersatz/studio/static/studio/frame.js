// What every page has: the transport, the keys, jobs that are followed, the help.

import { minus, sectionNames } from "./draw.js";
import { follow } from "./http.js";
import { fieldOf, isForPage, keeps } from "./keys.js";
import { Player } from "./player.js";
import { isSaving } from "./saving.js";

const data = document.getElementById("player-data");
/** The page's player, or null on pages without audio. */
export const player = data ? new Player(JSON.parse(data.textContent)) : null;
if (player) window.addEventListener("pagehide", () => player.stop());

const byId = (id) => document.getElementById(id);

function showTransport() {
  const bar = player.position();
  const whole = Math.floor(bar + 1e-6);
  byId("position").textContent = `${whole + 1}.${Math.floor((bar - whole) * player.tracks[player.heard].beats + 1e-6) + 1}`;
  const at = player.sectionAt(bar);
  const names = sectionNames(player.sections);
  const looping = player.loop ? `, looping ${player.loop.end - player.loop.start} bars` : "";
  byId("where").textContent = (at >= 0 ? names[at] : "") + looping;
  const button = byId("play");
  if (button.classList.contains("is-playing") !== player.isPlaying) {
    button.classList.toggle("is-playing", player.isPlaying);
    button.setAttribute("aria-label", player.isPlaying ? "Stop" : "Play");
  }
  byId("loop").setAttribute("aria-pressed", String(Boolean(player.loop)));
  if (byId("hear-remake")) {
    byId("hear-reference").setAttribute("aria-pressed", String(player.heard === "reference"));
    byId("hear-remake").setAttribute("aria-pressed", String(player.heard === "remake"));
    const offset = player.offsetDb();
    const turned = `${offset > 0 ? "reference" : "remake"} ${minus((-Math.abs(offset)).toFixed(1))} dB`;
    const said = offset === null ? "not measured yet" : Math.abs(offset) < 0.05 ? "nothing to turn" : turned;
    byId("level").textContent = `equal loudness: ${said}`;
  }
}

if (player) {
  player.onChange = showTransport;
  player.onProblem = (sentence) => {
    byId("player-says").textContent = sentence;
  };
  byId("play").addEventListener("click", () => player.toggle());
  byId("loop").addEventListener("click", () => player.toggleLoop());
  byId("hear-reference")?.addEventListener("click", () => player.hear("reference"));
  byId("hear-remake")?.addEventListener("click", () => player.hear("remake"));
  showTransport();
}

const help = byId("keys");

const KEYS = {
  "[": () => player?.step(-1),
  "]": () => player?.step(1),
  ",": () => player?.seek(Math.ceil(player.position() - 1.001)),
  ".": () => player?.seek(Math.floor(player.position() + 1.001)),
  Home: () => player?.seek(0),
  l: () => player?.toggleLoop(),
  x: () => player?.flip(),
  "?": () => bootstrap.Modal.getOrCreateInstance(help).show(),
};

/** Space is the transport wherever the focus is, outside text fields: before anything else on the page sees it. Enter presses buttons. */
function transportKey(event) {
  if (event.key !== " " || !player || event.ctrlKey || event.metaKey || event.altKey || keeps(fieldOf(event.target), " ")) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  if (event.type === "keydown" && !event.repeat) player.toggle();
}
for (const type of ["keydown", "keyup"]) window.addEventListener(type, transportKey, { capture: true });

/** A choice made with the mouse gives the keys back to the page. */
let pointed = false;
window.addEventListener("pointerdown", () => { pointed = true; }, { capture: true });
window.addEventListener("keydown", () => { pointed = false; }, { capture: true });
document.addEventListener("change", (event) => { if (pointed && event.target.matches("select")) event.target.blur(); });

/** A figure that can't be taken is said where the page says what went wrong. */
document.addEventListener("refused", (event) => {
  const place = document.querySelector("main .says[role=alert]");
  if (place) place.textContent = event.detail;
});

document.addEventListener("keydown", (event) => {
  // Without a player Space stays the browser's: it presses what has the focus.
  if (event.key === " ") return;
  if (!isForPage(event)) return;
  const digit = Number(event.key);
  if (digit >= 1 && digit <= 7) {
    document.querySelectorAll(".rail li a")[digit - 1]?.click();
    return;
  }
  const act = KEYS[event.key.length === 1 ? event.key.toLowerCase() : event.key];
  if (act) {
    event.preventDefault();
    act();
  }
});

/** Follow every job that the page came with; those with data-reload load the page again when done. */
for (const element of document.querySelectorAll(".job[data-job]")) {
  follow(element.dataset.job, element).then(async (job) => {
    element.dispatchEvent(new CustomEvent("job-ended", { bubbles: true, detail: job }));
    if (!element.dataset.reload) return;
    // Not while something is under way on the page.
    while (isSaving()) await new Promise((resolve) => setTimeout(resolve, 500));
    if (job.state === "done" || document.body.dataset.page === "plan") location.assign(element.dataset.reload);
    else element.textContent = job.message;
  });
}
