/* What comes by itself never takes away the place that a person's own request is to fill: its answer
   would find none. It is asked for again afterwards. */
import { asksByItself } from "./status_line.js";

const toFill = new Map(), putOff = new Map();

document.addEventListener("htmx:beforeRequest", ({ detail: { elt, xhr, target } }) => {
  if (asksByItself(elt)) return;
  toFill.set(xhr, target);
  let lost = false;
  xhr.addEventListener("readystatechange", () => { if (xhr.readyState === 4) lost = !target.isConnected; });
  xhr.addEventListener("loadend", () => {
    toFill.delete(xhr);
    if (lost && xhr.status) fillAgain(target.id);
    askAgain();
  });
});
/* Another answer took the place first: it is filled from the page as it stands now. */
function fillAgain(id) {
  if (!id || !document.getElementById(id)) return;
  htmx.ajax("get", location.pathname + location.search, { target: `#${id}`, swap: "outerHTML", select: `#${id}` });
}
function askAgain() {
  if (toFill.size) return;
  const waiting = [...putOff].filter(([element]) => element.isConnected);
  putOff.clear();
  for (const [element, target] of waiting) htmx.ajax("get", element.getAttribute("hx-get"), { source: element, target });
}

document.addEventListener("htmx:beforeSwap", ({ detail }) => {
  const { elt } = detail.requestConfig, { target } = detail;
  if (!asksByItself(elt)) return;
  const isReplaced = (place) => target.contains(place) && (place !== target || elt.matches("[hx-swap=outerHTML]"));
  if (![...toFill.values()].some(isReplaced)) return;
  detail.shouldSwap = false;
  /* What comes every second comes again without being asked. */
  if (elt.matches("[hx-get][hx-trigger^=load]")) putOff.set(elt, target);
});
