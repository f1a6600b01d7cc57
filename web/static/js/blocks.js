/* Blocks of the day plan: dragged, stretched, or nudged by keys and buttons in steps of 15 minutes. */
import { drawn, lanes, save, tryOut } from "./plan_requests.js";

const STEP_MIN = 15, FAR_MIN = 60, REST_MS = 700, NARROWEST = 3;
const find = (selector, place = document) => place.querySelector(selector);

/* Minutes that a hand has moved by so many pixels, in whole steps. */
export const minutesOf = (pixels, minutesPerPixel) => Math.round((pixels * minutesPerPixel) / STEP_MIN) * STEP_MIN;
/* Where a block is drawn once it, its begin or its end has moved by so many drawing units. */
export const movedSpan = ({ x, width }, units, edge) => ({
  x: edge === "end" ? x : x + units,
  width: Math.max(NARROWEST, edge === "end" ? width + units : edge === "begin" ? width - units : width),
});
export const shiftWords = (minutes) => `${minutes >= 0 ? "+" : "−"}${Math.floor(Math.abs(minutes) / 60)} h ${Math.abs(minutes) % 60} min`;

/* Who only sees a plan moves nothing. */
const blockAt = ({ target }) => (lanes() && "fixed" in lanes().dataset ? null : target.closest?.(".block"));
/* The chosen block stays chosen when the page is drawn anew. */
let chosen = null, moved = 0, edge = "", rest = null, drag = null;
const chosenBlock = () => chosen && document.getElementById(chosen.id);
const sameBlock = () => chosen && find(`.block[data-of="${chosen.of}"][data-key="${chosen.key}"][data-index="${chosen.index}"]`);
const address = (doing) => `${lanes().dataset.plan}${chosen.of}/${chosen.key}/blocks/${chosen.index}/${doing}/`;
const spanOf = (body) => ({ x: Number(body.getAttribute("x")), width: Number(body.getAttribute("width")) });
const draw = (body, span) => { for (const name of ["x", "width"]) body.setAttribute(name, span[name]); };

function choose(block) {
  if (chosen && chosen.id !== block.id) commit();
  document.querySelectorAll(".block[aria-pressed=true]").forEach((other) => other.setAttribute("aria-pressed", "false"));
  block.setAttribute("aria-pressed", "true");
  const { of, key, index } = block.dataset;
  chosen = { id: block.id, of, key, index };
  const words = find("#block-words"), buttons = find(".block-buttons");
  if (words) words.textContent = block.getAttribute("aria-label");
  if (buttons) buttons.hidden = false;
  document.querySelectorAll("[data-edge]").forEach((button) => { button.hidden = !find(".block-end", block); });
}

/* Spans: as stored, and as last committed, which is where the next step begins. */
const stored = new WeakMap(), committed = new WeakMap();
function show(block, minutes) {
  const body = find(".block-body", block);
  if (!stored.has(body)) stored.set(body, spanOf(body));
  if (!committed.has(body)) committed.set(body, stored.get(body));
  draw(body, movedSpan(committed.get(body), (minutes / drawn("spanMin")) * drawn("plot"), edge));
  find("#block-words").textContent = `${block.dataset.name}: ${edge ? `${edge} ` : ""}${shiftWords(minutes)}`;
}
function drawAsStored(block) {
  const body = find(".block-body", block);
  if (!stored.has(body)) return;
  draw(body, stored.get(body));
  committed.delete(body);
  find("#block-words").textContent = block.getAttribute("aria-label");
}
function move(block, minutes) {
  show(block, minutes);
  tryOut(address("move"), { by_min: minutes, edge, quick: "1" });
}
/* What was nudged or dragged is saved once the hand rests. */
function commit() {
  clearTimeout(rest);
  const minutes = moved, body = chosenBlock() && find(".block-body", chosenBlock());
  moved = 0;
  if (!chosen || !minutes) return;
  if (body) committed.set(body, spanOf(body));
  save(address("move"), { by_min: minutes, edge });
}
function nudge(minutes, at) {
  const block = chosenBlock();
  if (!block) return;
  if (at !== edge) { commit(); edge = at; }
  moved += minutes;
  move(block, moved);
  clearTimeout(rest);
  rest = setTimeout(commit, REST_MS);
}

document.addEventListener("pointerdown", (event) => {
  const block = blockAt(event);
  if (!block || event.button) return;
  choose(block);
  commit();
  const end = event.target.closest(".block-end");
  edge = end ? (end.classList.contains("begin") ? "begin" : "end") : "";
  const scale = block.ownerSVGElement.getBoundingClientRect().width / drawn("width");
  drag = { block, from: event.clientX, minutesPerPixel: drawn("spanMin") / (drawn("plot") * scale), minutes: 0 };
  block.setPointerCapture(event.pointerId);
  event.preventDefault();
  block.focus({ preventScroll: true });
});
document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const minutes = minutesOf(event.clientX - drag.from, drag.minutesPerPixel);
  if (minutes === drag.minutes) return;
  drag.minutes = minutes;
  move(drag.block, minutes);
});
document.addEventListener("pointerup", () => {
  if (!drag) return;
  moved = drag.minutes;
  drag = null;
  commit();
});
document.addEventListener("pointercancel", () => {
  if (drag) drawAsStored(drag.block);
  drag = null;
});

document.addEventListener("focusin", (event) => {
  const block = blockAt(event);
  if (block && (!chosen || chosen.id !== block.id)) choose(block);
});
document.addEventListener("keydown", (event) => {
  const block = blockAt(event);
  if (!block || event.ctrlKey || event.metaKey || event.altKey) return;
  const far = event.shiftKey ? FAR_MIN : STEP_MIN;
  const steps = { ArrowLeft: [-far, ""], ArrowRight: [far, ""], ArrowUp: [far, "end"], ArrowDown: [-far, "end"] };
  const step = steps[event.key];
  if (step && (!step[1] || find(".block-end", block))) { choose(block); nudge(...step); }
  else if (event.key === "Delete") { choose(block); save(address("remove")); }
  else if (event.key === "Enter" || event.key === " ") choose(block);
  else return;
  event.preventDefault();
  event.stopPropagation();
}, true);
document.addEventListener("click", (event) => {
  const button = event.target.closest?.("[data-nudge], [data-do]");
  if (!button || !chosenBlock()) return;
  if (button.dataset.do) { commit(); save(address(button.dataset.do)); }
  else nudge(Number(button.dataset.nudge), button.dataset.edge || "");
});

/* An answer is not drawn under a hand that moves on: the one after the next save is. */
document.addEventListener("htmx:beforeSwap", ({ detail }) => {
  if (detail.requestConfig.elt.id === "plan-saves" && (drag || moved)) detail.shouldSwap = false;
});
/* What could not be saved is drawn where it is stored. */
document.addEventListener("htmx:afterRequest", ({ detail }) => {
  if (detail.requestConfig.elt.id !== "plan-saves" || (detail.xhr.status && detail.xhr.status < 400)) return;
  moved = 0;
  document.querySelectorAll(".block").forEach(drawAsStored);
});
document.addEventListener("htmx:afterSettle", () => {
  const again = chosenBlock() || sameBlock();
  if (!again || again.getAttribute("aria-pressed") === "true" || !find("#block-words")) return;
  const lostFocus = document.activeElement === document.body;
  choose(again);
  if (lostFocus) again.focus({ preventScroll: true });
});
