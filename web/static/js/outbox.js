/* The outbox: what a form marked with data-outbox sends is stored on this device first, and leaves it
   once the site has answered. What cannot be sent waits, and goes by itself, in order, once the site
   can be reached. The site acts once on each entry, by its client_key. */
import { entryOf, bodyOf, newKey } from "./outbox_entry.js";
import { drop, entriesOf, put } from "./outbox_store.js";
import { showEntries } from "./outbox_panel.js";
import { fieldsIn, isChanged } from "./fields.js";
import { refusalFor, say } from "./status_line.js";
import { isOnline, look, whenOnline } from "./connection.js";
import { isOfAnother } from "./offline.js";

const TIMEOUT_MS = 20 * 1000;
/* An entry that another page is sending is left to it so long. */
const THEIRS_MS = 30 * 1000;
const user = document.body.dataset.user || "";
const isLater = (status) => status === 0 || status === 429 || (status >= 502 && status <= 504);
const isSignIn = (url) => new URL(url, location.href).pathname === document.body.dataset.signIn;

let waiting = [];
async function refresh() {
  waiting = (await entriesOf(user)).filter((entry) =>
    entry.state !== "sending" || Date.now() - entry.sentAt > THEIRS_MS);
  showEntries(waiting, { edit, remove, send: sendAll });
}
async function remove(entry) {
  await drop(entry.id);
  await refresh();
}
async function edit(entry) {
  await put({ ...entry, state: "waiting", sentence: "" });
  await refresh();
  await sendAll();
}

/* A page from a cache may be opened twice: what is entered in it are different entries. */
function renewKeys(place) {
  const forms = [...(place.matches?.("form[data-outbox]") ? [place] : []),
    ...(place.querySelectorAll?.("form[data-outbox]") || [])];
  for (const form of forms) {
    const field = form.elements.client_key;
    if (field) field.value = newKey();
  }
}
function emptied(form) {
  form.reset();
  renewKeys(form);
  form.dispatchEvent(new CustomEvent("outbox:waits", { bubbles: true }));
}

/* Sending as htmx does it. */
const held = new Map();
document.addEventListener("htmx:configRequest", ({ detail }) => {
  if (!detail.elt.matches("form[data-outbox]")) return;
  detail.parameters.client_key ||= newKey();
  detail.timeout = TIMEOUT_MS;
});
document.addEventListener("htmx:beforeRequest", (event) => {
  const { elt: form, xhr, requestConfig } = event.detail;
  if (!form.matches("form[data-outbox]")) return;
  const submitter = requestConfig.triggeringEvent?.submitter;
  const entry = entryOf({ form, data: requestConfig.formData, url: requestConfig.path, user, submitter, madeAt: Date.now() });
  if (waiting.some((other) => other.state === "waiting")) {
    /* Behind those that wait. */
    event.preventDefault();
    emptied(form);
    put({ ...entry, state: "waiting" }).then(refresh).then(sendAll);
    return;
  }
  held.set(xhr, put({ ...entry, state: "sending", sentAt: Date.now() }));
});
document.addEventListener("htmx:beforeSwap", ({ detail }) => {
  if (held.has(detail.xhr) && isSignIn(detail.xhr.responseURL)) detail.shouldSwap = false;
});
document.addEventListener("htmx:afterRequest", async ({ detail: { elt, xhr } }) => {
  const stored = held.get(xhr);
  if (!stored) return;
  held.delete(xhr);
  const entry = await stored;
  const signedOut = xhr.status && isSignIn(xhr.responseURL);
  /* The page says so too, and may have to be loaded again: what was typed stays here meanwhile. A
     refusal by another version of the site is not even shown in this page. */
  const isUnseen = xhr.status === 422 && isOfAnother(xhr);
  if (isUnseen || xhr.status === 403 || xhr.status === 500) {
    const answer = { status: xhr.status, headers: { get: (name) => xhr.getResponseHeader(name) } };
    const sentence = isUnseen ? sentenceOf(answer, xhr.responseText) : refusalFor(xhr.status);
    await put({ ...entry, state: "refused", sentence });
    return refresh();
  }
  if (!isLater(xhr.status) && !signedOut) return drop(entry.id);
  if (elt.isConnected) emptied(elt);
  await put({ ...entry, state: "waiting" });
  await refresh();
  say(signedOut ? "You are signed out. What you entered is kept on this device." : "");
  if (!signedOut && xhr.status) setTimeout(sendAll, TIMEOUT_MS / 4);
});

/* Sending what waited. Returns what became of it: sent, refused, or later. */
async function send(entry, aheadMs) {
  const headers = { "X-CSRFToken": JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"], "HX-Request": "true" };
  const signal = AbortSignal.timeout(TIMEOUT_MS);
  let answer, text;
  try {
    answer = await fetch(entry.url, { method: "POST", body: bodyOf(entry, aheadMs), headers, signal });
    text = await answer.text();
  } catch { return "later"; }
  if (isLater(answer.status) || isSignIn(answer.url)) return "later";
  if (answer.ok) {
    await drop(entry.id);
    return "sent";
  }
  await put({ ...entry, state: "refused", sentence: sentenceOf(answer, text) });
  return "refused";
}
/* Why the site refused an entry, as its page says it. */
function sentenceOf(answer, text) {
  const type = answer.headers.get("Content-Type") || "";
  if (type.startsWith("text/plain") && text.trim()) return text.trim();
  if (answer.status === 404) return "What this belongs to is no longer there.";
  const page = new DOMParser().parseFromString(text, "text/html");
  const errors = answer.status === 422 ? [...page.querySelectorAll(".errorlist li")] : [];
  return [...new Set(errors.map((error) => error.textContent.trim()))].join(" ") || refusalFor(answer.status);
}
let running = null;
export function sendAll() {
  running ||= sendInOrder().finally(() => { running = null; });
  return running;
}
async function sendInOrder() {
  let sent = 0;
  await refresh();
  /* One clock for all of them: what was made earlier stays earlier. */
  const aheadMs = waiting.length ? await look() : null;
  if (aheadMs === null) return;
  for (const entry of waiting.filter((other) => other.state !== "refused")) {
    const outcome = await send(entry, aheadMs);
    if (outcome === "later") break;
    if (outcome === "sent") sent += 1;
  }
  await refresh();
  if (sent) showSent(sent);
}
/* The page shows what was sent once it is loaded again: at once, unless something is being typed. */
function showSent(count) {
  const words = count === 1 ? "One entry was sent." : `${count} entries were sent.`;
  const isTyping = fieldsIn(document).some(isChanged) || document.querySelector(".outbox-edit");
  if (isTyping) say(`${words} Reload this page to see the result.`);
  else location.reload();
}

/* What waits stays here for the same person; the next one does not see it. */
document.addEventListener("submit", (event) => {
  if (!event.target.matches("form[data-sign-out]") || !waiting.length) return;
  if (!confirm("Some entries are not yet sent. They stay on this device until you sign in again. Sign out?")) event.preventDefault();
}, true);

addEventListener("htmx:load", ({ target }) => renewKeys(target));
renewKeys(document);
if (user) {
  whenOnline(() => { if (waiting.length) sendAll(); });
  refresh().then(() => { if (waiting.length && isOnline()) sendAll(); });
  addEventListener("pageshow", ({ persisted }) => { if (persisted) refresh(); });
}
