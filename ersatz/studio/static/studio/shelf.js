// The shelf: files dropped or chosen, their way in with progress, portraits, renaming in place.

import { node } from "./dom.js";
import { BarAxis, el, fresh, redrawn } from "./draw.js";
import { follow, post, showProgress } from "./http.js";
import { decodedName } from "./names.js";
import { editTitle } from "./title.js";

const drop = document.getElementById("drop");
const rows = document.getElementById("rows");
const says = document.getElementById("upload-says");
const LIMIT_MB = Number(drop.dataset.limitMb);

function portrait(svg) {
  const data = JSON.parse(svg.closest(".track-picture").querySelector("script").textContent);
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

const drawAll = () => document.querySelectorAll(".portrait").forEach(portrait);
redrawn(drawAll);

async function refresh(article) {
  const answer = await fetch(article.dataset.row);
  if (!answer.ok) return article;
  const place = node("div");
  place.innerHTML = await answer.text();
  const made = place.querySelector("article");
  article.replaceWith(made);
  made.querySelectorAll(".portrait").forEach(portrait);
  prepare(made);
  return made;
}

function prepare(article) {
  for (const element of article.querySelectorAll(".job[data-job]")) {
    follow(element.dataset.job, element).then(() => refresh(article));
  }
  article.querySelector("[data-rename]")?.addEventListener("click", (event) => rename(article, event.target.dataset.rename));
}

function rename(article, old) {
  editTitle(article.querySelector("h2"), old, async (title) => {
    const { ok, data } = await post(article.querySelector(".rename").action, { title });
    if (ok) refresh(article);
    else says.textContent = data.error;
  });
}

/** Says which file failed, and why; of several each has its line. */
function failed(file, sentence) {
  const name = decodedName(file.name);
  says.append(node("span", "line", sentence.includes(file.name) || sentence.includes(name) ? sentence : `“${name}”: ${sentence}`));
}

/** Send one file; its row appears at once, with progress of the upload and then of the survey. */
function send(file) {
  if (file.size > LIMIT_MB * 1024 * 1024) {
    failed(file, `“${file.name}” is larger than ${LIMIT_MB} MB, the limit here. A FLAC of it is smaller.`);
    return;
  }
  const article = node("article");
  article.className = "track";
  article.innerHTML = '<div class="track-head"><h2></h2></div><div class="track-picture"><div class="job"><div class="progress" role="progressbar" aria-label="Upload" aria-valuemin="0" aria-valuemax="100" aria-valuenow="0"><div class="progress-bar"></div></div><span class="job-says" role="status">uploading</span></div></div><div></div>';
  article.querySelector("h2").textContent = decodedName(file.name);
  rows.querySelector(".empty")?.remove();
  rows.prepend(article);
  const request = new XMLHttpRequest();
  request.open("POST", drop.action);
  request.setRequestHeader("X-CSRFToken", drop.querySelector("[name=csrfmiddlewaretoken]").value);
  request.upload.addEventListener("progress", (event) => {
    if (event.lengthComputable) showProgress(article.querySelector(".progress"), event.loaded / event.total);
  });
  const fail = (sentence) => {
    article.remove();
    failed(file, sentence);
  };
  request.addEventListener("error", () => fail("The server can’t be reached. Is Ersatz still running?"));
  request.addEventListener("load", () => {
    let data = {};
    try {
      data = JSON.parse(request.responseText);
    } catch {
      data = { error: "The server gave no answer that can be read." };
    }
    if (request.status !== 201) return fail(data.error ?? "The file was not taken.");
    article.dataset.row = data.row;
    refresh(article);
  });
  const body = new FormData();
  body.append("file", file);
  request.send(body);
}

document.getElementById("file").addEventListener("change", (event) => {
  says.replaceChildren();
  [...event.target.files].forEach(send);
  event.target.value = "";
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
document.getElementById("sort").addEventListener("change", (event) => event.target.form.submit());
document.querySelectorAll("article.track").forEach(prepare);
