/* Keys: places, search, help, the numbers of a chart, and what a page marks with data-key. */
import { memory } from "./memory.js";

const find = (selector) => document.querySelector(selector);
const still = matchMedia("(prefers-reduced-motion: reduce)");
const isTyping = (target) => target.closest("input, textarea, select, [contenteditable]");
const isPressing = (event) => event.key === " " && event.target.closest("button, a, summary");

let waitsForPlace = false;
function openFinder() {
  const sheet = find("#finder");
  if (!sheet || sheet.open) return;
  sheet.showModal();
  find("#finder-field").select();
}
function openHelp() {
  const sheet = find("#keys");
  if (sheet && !sheet.open) sheet.showModal();
}
/* The chart's numbers: a tab that shows them, a fold that opens, or the table beside it. */
function showNumbers() {
  const place = find("[data-numbers]");
  if (!place) return;
  if (place.matches("details")) place.open = true;
  if (place.matches("a")) place.click();
  place.scrollIntoView({ block: "center", behavior: still.matches ? "auto" : "smooth" });
  place.focus({ preventScroll: true });
}
const KEYS = {
  "?": openHelp, "/": openFinder, v: showNumbers,
  g() { waitsForPlace = true; },
  n() { find("[data-new]")?.click(); },
};
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || isTyping(event.target) || isPressing(event)) return;
  if (memory.get("keys-off") === "yes" || find("dialog[open]")) return;
  const key = event.key.toLowerCase(), marked = find(`[data-key="${CSS.escape(key)}"]`);
  if (waitsForPlace) { waitsForPlace = false; find(`[data-go="${CSS.escape(key)}"]`)?.click(); }
  else if (KEYS[key]) KEYS[key]();
  else if (marked) marked.click();
  else return;
  event.preventDefault();
});

/* In the list of what was found, arrows go from one to the next; Enter in the field opens the first. */
let opensFirst = false;
function openFirst() {
  const list = find("#hits");
  // Never what an older, shorter word had found: then it is opened once the list has come.
  opensFirst = !list || list.dataset.find !== find("#finder-field").value;
  if (!opensFirst) list.querySelector("a")?.click();
}
document.addEventListener("htmx:afterSettle", ({ target }) => {
  if (opensFirst && target.id === "finder-hits") openFirst();
});
document.addEventListener("keydown", (event) => {
  const sheet = event.target.closest?.("#finder");
  if (!sheet) return;
  if (event.key !== "Enter") opensFirst = false;
  const links = [...sheet.querySelectorAll("#hits a")], field = find("#finder-field"), at = links.indexOf(event.target);
  if (event.key === "ArrowDown" && links.length) links[Math.min(at + 1, links.length - 1)].focus();
  else if (event.key === "ArrowUp" && at >= 0) (links[at - 1] || field).focus();
  else if (event.key === "Enter" && event.target === field) openFirst();
  else return;
  event.preventDefault();
});

document.addEventListener("click", (event) => {
  if (event.target.closest("[data-print]")) print();
  if (event.target.closest("[data-key-help]")) openHelp();
  if (event.target.closest("[data-key-find]") && !event.ctrlKey && !event.metaKey) { event.preventDefault(); openFinder(); }
  /* After a click on the bench, Space is the bench's again, not the button's. */
  const pushed = event.detail > 0 && event.target.closest(".bench button");
  if (pushed) setTimeout(() => pushed.blur(), 0);
});
/* What is wrong in an answer is where one stands. */
document.addEventListener("htmx:afterSettle", ({ target }) => target.querySelector?.("[aria-invalid=true]")?.focus());

const off = find("#keys-off");
if (off) {
  off.checked = memory.get("keys-off") === "yes";
  off.addEventListener("change", () => memory.set("keys-off", off.checked ? "yes" : "no"));
}
