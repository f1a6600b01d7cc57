/* The line at the top: what is waited for, what the server refused, and that it cannot be reached.
   Waiting is a thin line that covers nothing; a refusal stays until a person acts again. */
export const WAITING = "Working…";
const SLOW_MS = 300;
const REFUSED = {
  409: "This was changed in another window just now: nothing was stored over that. Reload the page and do it again.",
  503: "The site is busy: that was not stored yet. Send it again in a few seconds.",
};
export const refusalFor = (status) => REFUSED[status] || "The site refused that. Reload the page and try again.";

/* Whether an element asks without anybody's doing. */
export const asksByItself = (element) => /^(load|every)/.test(element.getAttribute("hx-trigger") || "");

/* Whether a person asks: what follows a form by itself, as the check of what is typed, does not. */
const isAct = (element) => element.matches("form, button, a, input, select, textarea") && !asksByItself(element);

const line = () => document.getElementById("working");
export function say(words) {
  if (!line()) return;
  line().textContent = words;
  line().classList.toggle("is-waiting", words === WAITING);
}

let slow;
document.addEventListener("htmx:beforeRequest", ({ detail }) => {
  if (isAct(detail.elt)) say("");
  clearTimeout(slow);
  slow = setTimeout(() => { if (!line()?.textContent) say(WAITING); }, SLOW_MS);
});
document.addEventListener("htmx:afterRequest", ({ detail }) => {
  clearTimeout(slow);
  const done = detail.xhr.status < 400 && isAct(detail.requestConfig.elt);
  if (done || line()?.textContent === WAITING) say("");
});
/* A refusal in one sentence is said here and takes no place in the page. */
const isSentence = (xhr) => [413, 422, 503].includes(xhr.status) && (xhr.getResponseHeader("Content-Type") || "").startsWith("text/plain");
document.addEventListener("htmx:beforeSwap", ({ detail }) => {
  if (!isSentence(detail.xhr)) return;
  detail.shouldSwap = false;
  say(detail.xhr.responseText);
});
document.addEventListener("htmx:sendError", ({ detail: { elt } }) => {
  if (elt.matches("form:not([data-outbox]), button, a")) say("The site cannot be reached. What you typed is still here: try again.");
});
document.addEventListener("htmx:responseError", ({ detail: { xhr } }) => say(isSentence(xhr) ? xhr.responseText : refusalFor(xhr.status)));
