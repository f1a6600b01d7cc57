/* The day plan: blocks, conditions, and hours that pass under a thumb. The server works out every
   answer. */
import "./blocks.js";
import "./what_if.js";
import { drawn, lanes } from "./plan_requests.js";
import { isNarrow } from "./screen.js";

const LEAST_SWEEP_PX = 60;

let swept = null;
document.addEventListener("touchstart", (event) => {
  const touch = event.touches[0];
  swept = event.target.closest?.(".charts-scroll") ? { x: touch.clientX, y: touch.clientY } : null;
}, { passive: true });
document.addEventListener("touchend", (event) => {
  if (!swept) return;
  const touch = event.changedTouches[0], x = touch.clientX - swept.x, y = touch.clientY - swept.y;
  swept = null;
  const across = Math.abs(x) > LEAST_SWEEP_PX && Math.abs(x) > 2 * Math.abs(y);
  if (across) document.querySelector(`[data-key="${x < 0 ? "." : ","}"]`)?.click();
}, { passive: true });

/* Drawn for another width (a telephone turned, a first visit): once more for this one. */
const NARROW_DRAWING = 500;
let fitted = "";
function fit() {
  if (!lanes() || fitted === String(isNarrow()) || (drawn("width") < NARROW_DRAWING) === isNarrow()) return;
  fitted = String(isNarrow());
  for (const fold of document.querySelectorAll(".plan-fold")) fold.open = !isNarrow();
  const part = document.querySelector("#plan-part [name=show]").value;
  htmx.ajax("GET", lanes().dataset.plan, { source: "body", target: "#plan-body", swap: "outerHTML", values: { show: part } });
}
addEventListener("needle:screen", () => { fitted = ""; fit(); });
document.addEventListener("htmx:afterSettle", ({ target }) => { if (target.id === "plan-body") fit(); });
fit();
