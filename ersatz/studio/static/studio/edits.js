// @ts-check
// Edits of a song: one after another, each on the revision that the one before it made; undo and redo by button and by key.

import { buttonById } from "./dom.js";
import { post } from "./http.js";
import { fieldOf } from "./keys.js";
import { whileSaving } from "./saving.js";
import { tip } from "./tips.js";

const BROKEN = "This page could not show the last change. Reload it: what was changed before is kept.";

/** @typedef {Record<string, any>} Edit */
/** @typedef {{ ok: boolean, status: number, data: any }} Answer */

/** `revision()` is the current one, `show(state)` takes what the server answers, `refused()` draws what stands. Returns send(edit):
 *  an edit, or a function that makes it from what stands when its turn comes (null: nothing to do), as the one before it may be under
 *  way.
 *  @param {{ url: string, says: HTMLElement, revision: () => number, show: (state: any) => void, refused: () => void }} options */
export function edits({ url, says, revision, show, refused }) {
  /** @type {Promise<void>} */
  let sending = Promise.resolve();

  const queue = (/** @type {() => Answer | Promise<Answer> | null} */ work) => {
    sending = whileSaving(sending.then(async () => {
      const answer = await work();
      if (!answer) return;
      const { ok, status, data } = answer;
      says.textContent = ok ? "" : data.error;
      drawn(ok ? data : status === 409 ? data.state : null);
    }).catch(() => {
      says.textContent = BROKEN;
    }));
    return sending;
  };

  /** An answer that can't be drawn must not keep the next edits from being sent: what stood is drawn again. */
  const drawn = (/** @type {any} */ state) => {
    try {
      if (state) show(state);
      else refused();
    } catch (problem) {
      console.warn(problem);
      says.textContent = BROKEN;
      if (state) refused();
    }
  };

  const step = (/** @type {string} */ id) => queue(() => post(document.getElementById(id)?.dataset.url ?? ""));
  for (const id of ["undo", "redo"]) document.getElementById(id)?.addEventListener("click", () => step(id));
  document.addEventListener("keydown", (event) => {
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z" && fieldOf(event.target) !== "text") {
      event.preventDefault();
      step(event.shiftKey ? "redo" : "undo");
    }
  });
  const send = (/** @type {Edit | (() => Edit | null | undefined)} */ wanted) => queue(() => {
    const edit = typeof wanted === "function" ? wanted() : wanted;
    return edit ? post(url, { revision: revision(), edit }, { json: true }) : null;
  });
  /** An edit that needs the reference: the server makes it. */
  send.ask = (/** @type {object} */ ask) => queue(() => post(url, { revision: revision(), ask }, { json: true }));
  /** Whatever else changes the song takes its turn, or an older answer would be shown over a newer one. */
  send.post = (/** @type {string} */ address, /** @type {any} */ fields) => queue(() => post(address, fields));
  /** To a revision of the history. */
  send.returnTo = (/** @type {number} */ number) => queue(() => post(url.replace("/edit/", `/return/${number}/`)));
  return send;
}

/** What a page sends edits with.
 *  @typedef {ReturnType<typeof edits>} Send */

/** The buttons of undo and redo as what stands allows; `isLong`: with what they would do as words, else it is their tip.
 *  @param {{ undo: string | null, redo: string | null }} stands */
export function showSteps({ undo, redo }, isLong = false) {
  for (const [id, word, sentence] of /** @type {[string, string, string | null][]} */ ([["undo", "Undo", undo], ["redo", "Redo", redo]])) {
    const one = buttonById(id);
    one.disabled = !sentence;
    one.textContent = isLong && sentence ? `${word}: ${sentence}` : word;
    tip(one, sentence ?? "");
  }
}
