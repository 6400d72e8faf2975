// @ts-check
// The printed survey: its one button.

document.getElementById("print")?.addEventListener("click", () => window.print());
