// Files: make them as a job with progress, then fetch them.

import { follow, post, progressElement } from "./http.js";

const says = document.getElementById("handover-says");

for (const button of document.querySelectorAll("[data-export]")) {
  button.addEventListener("click", async () => {
    says.textContent = "";
    button.disabled = true;
    const { ok, data } = await post(button.dataset.url, { format: button.dataset.export });
    if (!ok) {
      says.textContent = data.error;
      button.disabled = false;
      return;
    }
    const place = button.closest("tr").querySelector(".job-place");
    const progress = progressElement("Export");
    place.replaceChildren(progress);
    const job = await follow(data.job.id, progress);
    place.replaceChildren();
    button.disabled = false;
    if (job.state === "done") {
      button.textContent = "Download";
      location.assign(data.url);
    } else says.textContent = job.message;
  });
}
