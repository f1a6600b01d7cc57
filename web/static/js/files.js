/* Files: dropped on their field, and how much of one was sent. */
import { say } from "./status_line.js";

const zoneOf = (event) => event.target.closest("[data-drop]");
document.addEventListener("dragover", (event) => {
  const zone = zoneOf(event);
  if (zone) { event.preventDefault(); zone.classList.add("over"); }
});
document.addEventListener("dragleave", (event) => zoneOf(event)?.classList.remove("over"));
document.addEventListener("drop", (event) => {
  const zone = zoneOf(event);
  if (!zone) return;
  event.preventDefault();
  zone.classList.remove("over");
  zone.querySelector("input[type=file]").files = event.dataTransfer.files;
});
/* What was chosen is named beside its button. */
document.addEventListener("change", ({ target }) => {
  if (!target.matches("input[data-chosen]")) return;
  const names = [...target.files].map((file) => file.name).join(", ");
  target.closest("label").querySelector(".photo-chosen").textContent = names;
});
document.addEventListener("reset", ({ target }) => {
  for (const place of target.querySelectorAll(".photo-chosen")) place.textContent = "";
});
document.addEventListener("htmx:xhr:progress", ({ target, detail: { lengthComputable, loaded, total } }) => {
  const bar = target.querySelector?.("progress");
  if (!bar) return;
  bar.hidden = false;
  bar.value = lengthComputable ? (100 * loaded) / total : 0;
  if (loaded === total) say("Reading the file…");
});
