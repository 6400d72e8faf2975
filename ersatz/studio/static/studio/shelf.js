// @ts-check
// The shelf: files dropped or chosen, their way in with progress, portraits, renaming in place.

import { byId, dataOf, inputById, node, selectById } from "./dom.js";
import { BarAxis, el, fresh, redrawn } from "./draw.js";
import { follow, post, showProgress } from "./http.js";
import { decodedName } from "./names.js";
import { editTitle } from "./title.js";

const drop = /** @type {HTMLFormElement} */ (byId("drop")), rows = byId("rows"), says = byId("upload-says");
const LIMIT_MB = Number(drop.dataset.limitMb);

const portraits = (/** @type {ParentNode} */ inside) => /** @type {NodeListOf<SVGElement>} */ (inside.querySelectorAll(".portrait")).forEach(portrait);

/** @param {SVGElement} svg */
function portrait(svg) {
  /** @type {import("./states").Portrait} */
  const data = JSON.parse(svg.closest(".track-picture")?.querySelector("script")?.textContent ?? "null");
  const { width, height } = fresh(svg);
  const axis = new BarAxis(1, width - 1, data.levels.length);
  const floor = height - 16;
  const steps = data.levels.flatMap((v, i) => [[axis.x(i + 1), floor - v * (floor - 3)], [axis.x(i + 2), floor - v * (floor - 3)]]);
  const d = steps.map(([x, y], i) => `${i ? "L" : "M"}${x.toFixed(1)} ${y.toFixed(1)}`).join("");
  svg.append(el("path", { class: "refarea", d: `${d}L${width - 1} ${floor}L1 ${floor}Z` }), el("path", { class: "refline", d }));
  for (const [label, start, bars] of data.sections) {
    const x = axis.x(start), wide = axis.x(start + bars) - x;
    svg.append(el("line", { class: "tick", x1: x, x2: x, y1: floor, y2: height }));
    if (wide > label.length * 6) svg.append(el("text", { class: "s", x: x + 4, y: height - 3 }, label));
  }
}

redrawn(() => portraits(document));

/** Its row as it is now.
 *  @param {HTMLElement} article */
async function refresh(article) {
  const answer = await fetch(dataOf(article, "row"));
  if (!answer.ok) return article;
  const place = node("div");
  place.innerHTML = await answer.text();
  const made = place.querySelector("article");
  if (!made) return article;
  article.replaceWith(made);
  portraits(made);
  prepare(made);
  return made;
}

/** Follows its jobs, and lets it be renamed.
 *  @param {HTMLElement} article */
function prepare(article) {
  for (const element of /** @type {NodeListOf<HTMLElement>} */ (article.querySelectorAll(".job[data-job]"))) {
    follow(dataOf(element, "job"), element).then(() => refresh(article));
  }
  const opener = /** @type {HTMLElement | null} */ (article.querySelector("[data-rename]"));
  opener?.addEventListener("click", () => rename(article, dataOf(opener, "rename")));
}

/** @param {HTMLElement} article
 *  @param {string} old */
function rename(article, old) {
  const heading = article.querySelector("h2"), form = /** @type {HTMLFormElement | null} */ (article.querySelector(".rename"));
  if (!heading || !form) return;
  editTitle(heading, old, async (title) => {
    const { ok, data } = await post(form.action, { title });
    if (ok) refresh(article);
    else says.textContent = data.error;
  });
}

/** Says which file failed, and why; of several each has its line.
 *  @param {File} file
 *  @param {string} sentence */
function failed(file, sentence) {
  const name = decodedName(file.name);
  says.append(node("span", "line", sentence.includes(file.name) || sentence.includes(name) ? sentence : `“${name}”: ${sentence}`));
}

/** Send one file; its row appears at once, with progress of the upload and then of the survey.
 *  @param {File} file */
function send(file) {
  if (file.size > LIMIT_MB * 1024 * 1024) {
    failed(file, `“${file.name}” is larger than ${LIMIT_MB} MB, the limit here. A FLAC of it is smaller.`);
    return;
  }
  const article = node("article");
  article.className = "track";
  article.innerHTML = '<div class="track-head"><h2></h2></div><div class="track-picture"><div class="job"><div class="progress" role="progressbar" aria-label="Upload" aria-valuemin="0" aria-valuemax="100" aria-valuenow="0"><div class="progress-bar"></div></div><span class="job-says" role="status">uploading</span></div></div><div></div>';
  const heading = article.querySelector("h2"), bar = article.querySelector(".progress");
  if (heading) heading.textContent = decodedName(file.name);
  rows.querySelector(".empty")?.remove();
  rows.prepend(article);
  const request = new XMLHttpRequest();
  request.open("POST", drop.action);
  request.setRequestHeader("X-CSRFToken", /** @type {HTMLInputElement} */ (drop.querySelector("[name=csrfmiddlewaretoken]")).value);
  request.upload.addEventListener("progress", (event) => {
    if (event.lengthComputable && bar) showProgress(bar, event.loaded / event.total);
  });
  const fail = (/** @type {string} */ sentence) => {
    article.remove();
    failed(file, sentence);
  };
  request.addEventListener("error", () => fail("The server can’t be reached. Is Ersatz still running?"));
  request.addEventListener("load", () => {
    /** @type {{ row?: string, error?: string }} */
    let data;
    try {
      data = JSON.parse(request.responseText);
    } catch {
      data = { error: "The server gave no answer that can be read." };
    }
    if (request.status !== 201) fail(data.error ?? "The file was not taken.");
    else {
      article.dataset.row = data.row;
      refresh(article);
    }
  });
  const body = new FormData();
  body.append("file", file);
  request.send(body);
}

const chosen = inputById("file"), sort = selectById("sort");
chosen.addEventListener("change", () => {
  says.replaceChildren();
  [...(chosen.files ?? [])].forEach(send);
  chosen.value = "";
});
for (const name of ["dragenter", "dragover"]) {
  document.addEventListener(name, (event) => {
    event.preventDefault();
    drop.classList.add("over");
  });
}
for (const name of ["dragleave", "drop"]) document.addEventListener(name, () => drop.classList.remove("over"));
document.addEventListener("drop", (event) => {
  event.preventDefault();
  says.replaceChildren();
  [...(event.dataTransfer?.files ?? [])].forEach(send);
});
sort.addEventListener("change", () => sort.form?.submit());
/** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("article.track")).forEach(prepare);
