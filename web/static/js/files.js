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
document.addEventListener("htmx:xhr:progress", ({ target, detail: { lengthComputable, loaded, total } }) => {
  const bar = target.querySelector?.("progress");
  if (!bar) return;
  bar.hidden = false;
  bar.value = lengthComputable ? (100 * loaded) / total : 0;
  if (loaded === total) say("Reading the file…");
});
