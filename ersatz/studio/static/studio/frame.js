// @ts-check
// What every page has: the transport, the keys, jobs that are followed, the help.

import { buttonById, byId, dataOf } from "./dom.js";
import { minus, sectionNames } from "./draw.js";
import { follow } from "./http.js";
import { fieldOf, isForPage, keeps } from "./keys.js";
import { Player } from "./player.js";
import { isSaving } from "./saving.js";
import { showTips } from "./tips.js";

const data = document.getElementById("player-data");
/** The page's player, or null on pages without audio. */
export const player = data ? new Player(JSON.parse(data.textContent ?? "null")) : null;

/** The player of a page that always has one. */
export function pagePlayer() {
  if (!player) throw new Error("this page has no player");
  return player;
}
if (player) window.addEventListener("pagehide", () => player.stop());

/** @param {Player} player */
function showTransport(player) {
  const bar = player.position();
  const whole = Math.floor(bar + 1e-6);
  byId("position").textContent = `${whole + 1}.${Math.floor((bar - whole) * player.track.beats + 1e-6) + 1}`;
  const at = player.sectionAt(bar);
  const names = sectionNames(player.sections);
  const looping = player.loop ? `, looping ${player.loop.end - player.loop.start} bars` : "";
  byId("where").textContent = player.isHidden ? "" : (at >= 0 ? names[at] : "") + looping;
  const button = byId("play");
  if (button.classList.contains("is-playing") !== player.isPlaying) {
    button.classList.toggle("is-playing", player.isPlaying);
    button.setAttribute("aria-label", player.isPlaying ? "Stop" : "Play");
  }
  byId("loop").setAttribute("aria-pressed", String(Boolean(player.loop)));
  if (document.getElementById("hear-remake")) {
    for (const which of ["reference", "remake"]) {
      const one = buttonById(`hear-${which}`);
      one.setAttribute("aria-pressed", String(player.heard === which && !player.isHidden));
      one.disabled = player.isHidden;
    }
    byId("level").textContent = player.isEqual ? `equal loudness: ${offsetSaid(player.offsetDb())}` : "each as loud as it is";
  }
}

/** Which of the two is turned down for equal loudness.
 *  @param {number | null} db */
function offsetSaid(db) {
  if (db === null) return "not measured yet";
  return Math.abs(db) < 0.05 ? "nothing to turn" : `${db > 0 ? "reference" : "remake"} ${minus((-Math.abs(db)).toFixed(1))} dB`;
}

if (player) {
  player.onChange = () => showTransport(player);
  player.onProblem = (sentence) => {
    byId("player-says").textContent = sentence;
  };
  byId("play").addEventListener("click", () => player.toggle());
  byId("loop").addEventListener("click", () => player.toggleLoop());
  for (const which of /** @type {import("./player.js").Which[]} */ (["reference", "remake"])) document.getElementById(`hear-${which}`)?.addEventListener("click", () => player.hear(which));
  showTransport(player);
}

showTips();

const help = byId("keys");

/** @type {Record<string, () => void>} */
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

/** Space is the transport wherever the focus is, outside text fields: before anything else on the page sees it. Enter presses buttons.
 *  @param {KeyboardEvent} event */
function transportKey(event) {
  if (event.key !== " " || !player || event.ctrlKey || event.metaKey || event.altKey || keeps(fieldOf(event.target), " ")) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  if (event.type === "keydown" && !event.repeat) player.toggle();
}
for (const type of /** @type {("keydown" | "keyup")[]} */ (["keydown", "keyup"])) window.addEventListener(type, transportKey, { capture: true });

/** A choice made with the mouse gives the keys back to the page. */
let pointed = false;
window.addEventListener("pointerdown", () => { pointed = true; }, { capture: true });
window.addEventListener("keydown", () => { pointed = false; }, { capture: true });
document.addEventListener("change", (event) => { if (pointed && event.target instanceof HTMLSelectElement) event.target.blur(); });

/** A figure that can't be taken is said where the page says what went wrong. */
document.addEventListener("refused", (event) => {
  const place = document.querySelector("main .says[role=alert]");
  if (place) place.textContent = /** @type {CustomEvent<string>} */ (event).detail;
});

document.addEventListener("keydown", (event) => {
  // Without a player Space stays the browser's: it presses what has the focus.
  if (event.key === " ") return;
  if (!isForPage(event)) return;
  const digit = Number(event.key);
  if (digit >= 1 && digit <= 7) {
    /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll(".rail li a"))[digit - 1]?.click();
    return;
  }
  const act = KEYS[event.key.length === 1 ? event.key.toLowerCase() : event.key];
  if (act) {
    event.preventDefault();
    act();
  }
});

/** Follow every job that the page came with; those with data-reload load the page again when done. */
for (const element of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll(".job[data-job]"))) {
  follow(dataOf(element, "job"), element).then(async (job) => {
    element.dispatchEvent(new CustomEvent("job-ended", { bubbles: true, detail: job }));
    if (!element.dataset.reload) return;
    // Not while something is under way on the page.
    while (isSaving()) await new Promise((resolve) => setTimeout(resolve, 500));
    if (job.state === "done" || document.body.dataset.page === "plan") {
      // What is pressed while the next page is on its way would be lost.
      document.body.inert = true;
      location.assign(element.dataset.reload);
    } else element.textContent = job.message;
  });
}
