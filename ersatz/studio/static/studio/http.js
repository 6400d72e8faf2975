// @ts-check
// Talking to the server: JSON posts with the CSRF token, and following a job until it ends.

import { node } from "./dom.js";

/** @typedef {Pick<import("./states").JobState, "state" | "message" | "fraction" | "phase" | "changes">} Job */

const token = () => /** @type {HTMLInputElement | null} */ (document.querySelector("input[name=csrfmiddlewaretoken]"))?.value ?? "";

/** POST, or with `method` another, a form (object of fields), FormData or, with `json`, a JSON body.
 *  @param {string} url
 *  @param {any} fields
 *  @returns {Promise<{ ok: boolean, status: number, data: any }>} */
export async function post(url, fields = {}, { json = false, method = "POST" } = {}) {
  /** @type {Record<string, string>} */
  const headers = { "X-CSRFToken": token() };
  let body = fields;
  if (json) {
    headers["Content-Type"] = "application/json";
    body = JSON.stringify(fields);
  } else if (!(fields instanceof FormData)) {
    body = new URLSearchParams(fields);
  }
  try {
    const answer = await fetch(url, { method, headers, body });
    const data = await answer.json().catch(() => ({}));
    if (!answer.ok) data.error ??= "The server gave no answer that can be read.";
    return { ok: answer.ok, status: answer.status, data };
  } catch {
    return { ok: false, status: 0, data: { error: "The server can’t be reached. Is Ersatz still running?" } };
  }
}

/** POSTs of what is held, at most one at a time: those that are overtaken before their turn are left out, and so is their answer. Returns
 *  ask(body, then): `then(data)` where the answer is to the last one asked for.
 *  @param {string} url */
export function latest(url) {
  let isAsking = false;
  /** @type {{ body: object, then: (data: any) => void } | null} */
  let wanted = null;
  return async (/** @type {object} */ body, /** @type {(data: any) => void} */ then) => {
    wanted = { body, then };
    if (isAsking) return;
    isAsking = true;
    while (wanted) {
      const now = /** @type {{ body: object, then: (data: any) => void }} */ (wanted);
      wanted = null;
      const { ok, data } = await post(url, now.body, { json: true });
      if (ok && !wanted) now.then(data);
    }
    isAsking = false;
  };
}

/** @param {Element} bar
 *  @param {number} fraction */
export function showProgress(bar, fraction) {
  const percent = Math.round(fraction * 100);
  bar.setAttribute("aria-valuenow", String(percent));
  /** @type {HTMLElement} */ (bar.firstElementChild).style.width = `${percent}%`;
}

/** Show the progress of the job at an address in `element` and resolve to its last state.
 *  @param {string} url
 *  @param {Element | null} element
 *  @returns {Promise<Job>} */
export async function follow(url, element) {
  const bar = element?.querySelector(".progress");
  const says = element?.querySelector(".job-says");
  element?.querySelector(".job-cancel")?.addEventListener("click", () => post(`${url}cancel/`), { once: true });
  if (bar) showProgress(bar, Number(bar.getAttribute("aria-valuenow")) / 100);
  let misses = 0;
  const left = timeLeft();
  for (;;) {
    /** @type {Job | null} */
    let job = null;
    try {
      const answer = await fetch(url);
      job = answer.ok ? await answer.json() : null;
    } catch {
      job = null;
    }
    if (job === null && ++misses > 20) return { state: "failed", message: "The server can’t be reached. Is Ersatz still running?", fraction: 0, phase: "", changes: [] };
    if (job) {
      misses = 0;
      if (bar) showProgress(bar, job.fraction);
      if (says) says.textContent = job.state === "queued" ? "waiting" : `${job.phase || "starting"}${left(job.fraction)}`;
      if (!["queued", "running"].includes(job.state)) return job;
    }
    await new Promise((resolve) => setTimeout(resolve, 350));
  }
}

/** Says how long a job still takes, judged by how fast it went since it was first looked at; nothing while that is too short. */
export function timeLeft(now = () => performance.now() / 1000) {
  /** @type {{ at: number, fraction: number } | null} */
  let begun = null;
  return (/** @type {number} */ fraction) => {
    begun ??= { at: now(), fraction };
    const passed = now() - begun.at, done = fraction - begun.fraction;
    if (passed < 4 || done < 0.05) return "";
    const seconds = (passed * (1 - fraction)) / done;
    return seconds < 90 ? `, about ${Math.max(1, Math.round(seconds / 5) * 5)} s left` : `, about ${Math.round(seconds / 60)} min left`;
  };
}

/** A job's progress; `meanwhile`: what can be done until it ends.
 *  @param {string} label */
export function progressElement(label, meanwhile = "") {
  const element = node("div");
  element.className = "job";
  element.innerHTML = '<div class="progress" role="progressbar" aria-valuemin="0" aria-valuemax="100" aria-valuenow="0"><div class="progress-bar"></div></div><span class="job-says" role="status">waiting</span><button class="btn btn-tool job-cancel" type="button">Cancel</button>';
  element.querySelector(".progress")?.setAttribute("aria-label", label);
  if (meanwhile) element.append(node("span", "soft", meanwhile));
  return element;
}

/** Asks for a job and follows it to its end, with its progress in `host`; one that is refused has failed with the server's sentence. null where
 *  another was asked for meanwhile, as `isWanted()` tells.
 *  @param {string} url
 *  @param {object} fields
 *  @param {string} label
 *  @param {HTMLElement} host
 *  @param {() => boolean} isWanted
 *  @returns {Promise<any>} */
export async function finished(url, fields, label, host, isWanted) {
  const { ok, data } = await post(url, fields);
  if (!isWanted()) return null;
  if (!ok) return { state: "failed", message: data.error };
  if (data.job.state === "done") return data.job;
  const place = progressElement(label);
  host.replaceChildren(place);
  const job = await follow(data.job.url, place);
  if (!isWanted()) return null;
  host.replaceChildren();
  return job;
}
