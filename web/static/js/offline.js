/* Registers the service worker where the browser has one (over HTTPS, or on this machine), and has it
   keep the pages of the job at hand on a phone, some hours apart. */
import { memory } from "./memory.js";
import { say } from "./status_line.js";

const AGAIN_MS = 3 * 3600 * 1000;
const CALM_MS = 4 * 1000;
const isCarried = () => matchMedia("(pointer: coarse), (display-mode: standalone)").matches;

async function keepPages() {
  const job = (location.pathname.match(/^\/jobs\/(\d+)\//) || [])[1];
  const key = `kept-${document.body.dataset.version}-${document.body.dataset.user}-${job}`;
  if (!job || !isCarried() || Date.now() - Number(memory.get(key)) < AGAIN_MS) return;
  const worker = (await navigator.serviceWorker.ready).active;
  const answer = await fetch(`/jobs/${job}/offline/`);
  if (!answer.ok || answer.redirected) return;
  worker.postMessage({ keep: (await answer.json()).pages });
  memory.set(key, String(Date.now()));
}
if ("serviceWorker" in navigator && document.body.dataset.user) {
  navigator.serviceWorker.register("/service-worker.js").catch(() => null);
  setTimeout(() => keepPages().catch(() => null), CALM_MS);
}

/* An answer of another version of the site is not put into a page of this one. */
export function isOfAnother(xhr) {
  const version = xhr.getResponseHeader("Steady-Version");
  return Boolean(version) && version !== document.body.dataset.version;
}
document.addEventListener("htmx:beforeSwap", ({ detail }) => { if (isOfAnother(detail.xhr)) detail.shouldSwap = false; });
document.addEventListener("htmx:afterRequest", ({ detail }) => {
  if (isOfAnother(detail.xhr)) say("The site has a newer version: reload this page.");
});
