/* What the day plan asks of the server, one request at a time. What is saved waits its turn and is
   never dropped; of what is only tried while a request is under way, the newest counts. */
const find = (selector) => document.querySelector(selector);
let savesUnderWay = 0;

const send = (source, url, values) => htmx.ajax("POST", url, { source, values }).catch(() => { /* said by the status line */ });

export function tryOut(url, values) {
  if (!savesUnderWay) send("#plan-tries", url, values);
}
export function save(url, values = {}) {
  savesUnderWay += 1;
  send("#plan-saves", url, values);
}
/* A try would take the place of a waiting save. */
document.addEventListener("htmx:confirm", (event) => {
  if (event.target.id === "what-if" && savesUnderWay) event.preventDefault();
});
document.addEventListener("htmx:afterRequest", ({ detail }) => {
  if (detail.requestConfig.elt.id !== "plan-saves" && !detail.requestConfig.elt.closest("[data-saves]")) return;
  savesUnderWay = Math.max(0, savesUnderWay - 1);
});

/* Drawings keep what is scrolled into view. */
let scrolled = [];
const scrollers = () => [...document.querySelectorAll("#plan-body .scroll")];
document.addEventListener("htmx:beforeSwap", () => { scrolled = scrollers().map((place) => place.scrollLeft); });
document.addEventListener("htmx:afterSwap", () => {
  const places = scrollers();
  if (places.length === scrolled.length) places.forEach((place, index) => { place.scrollLeft = scrolled[index]; });
});

/* The drawing of lanes, and its own units: how wide it is, and how many of them its hours take. */
export const lanes = () => find("#plan-lanes");
export const drawn = (name) => Number(lanes().dataset[name]);
