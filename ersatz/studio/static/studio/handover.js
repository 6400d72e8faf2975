// @ts-check
// Files: make them as a job with progress, then fetch them.

import { follow, post, progressElement } from "./http.js";
import { whileSaving } from "./saving.js";

const says = /** @type {HTMLElement} */ (document.getElementById("handover-says"));

for (const button of /** @type {NodeListOf<HTMLButtonElement>} */ (document.querySelectorAll("[data-export]"))) {
  button.addEventListener("click", async () => {
    says.textContent = "";
    button.disabled = true;
    // The page isn't loaded again under an export (frame.js).
    await whileSaving(made(button));
    button.disabled = false;
  });
}

/** The file of a button, made and fetched.
 *  @param {HTMLButtonElement} button */
async function made(button) {
  const { ok, data } = await post(button.dataset.url ?? "", { format: button.dataset.export });
  if (!ok) {
    says.textContent = data.error;
    return;
  }
  const place = /** @type {Element} */ (button.closest("tr")?.querySelector(".job-place"));
  const progress = progressElement("Export", "You can go on elsewhere: it waits here under Download.");
  place.replaceChildren(progress);
  const job = await follow(data.job.url, progress);
  place.replaceChildren();
  if (job.state === "done") {
    button.textContent = "Download";
    // A download of its own: what the page loads next doesn't end it.
    Object.assign(document.createElement("a"), { href: data.url, download: "" }).click();
  } else says.textContent = job.message;
}
