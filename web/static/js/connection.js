/* Whether the site can be reached, and since when this page is as it stands. */
import { clockOf } from "./clock.js";

const LOOK_MS = 5 * 1000;
const OLD_MS = 10 * 1000;
const made = Date.parse(document.body.dataset.made || "");
const listeners = [];
let online = true, looking = null;

export const isOnline = () => online;
/* Calls back whenever the site can be reached again. */
export function whenOnline(callback) { listeners.push(callback); }

function show() {
  const line = document.getElementById("offline");
  if (!line) return;
  line.hidden = online;
  line.textContent = `No connection. This page is as of ${clockOf(made)}. What you enter is kept here and sent later.`;
}
function set(reached) {
  const isBack = reached && !online;
  online = reached;
  show();
  if (!online) looking ||= setTimeout(look, LOOK_MS);
  if (isBack) listeners.forEach((callback) => callback());
}
/* How far the site's clock is ahead of this device's, ms; null if the site cannot be reached. */
export async function look() {
  clearTimeout(looking);
  looking = null;
  const began = Date.now();
  try {
    const answer = await fetch("/alive/", { cache: "no-store", signal: AbortSignal.timeout(LOOK_MS) });
    set(answer.ok);
    return answer.ok ? Number(answer.headers.get("Steady-Time")) - (began + Date.now()) / 2 : null;
  } catch {
    set(false);
    return null;
  }
}

document.addEventListener("htmx:sendError", () => set(false));
document.addEventListener("htmx:timeout", () => set(false));
document.addEventListener("htmx:afterRequest", ({ detail: { xhr } }) => { if (xhr.status && xhr.status < 500) set(true); });
addEventListener("offline", () => set(false));
addEventListener("online", look);
document.addEventListener("visibilitychange", () => { if (!document.hidden && !online) look(); });
/* A page that is old when it is opened came from a cache. */
if (Date.now() - made > OLD_MS || !navigator.onLine) look();
