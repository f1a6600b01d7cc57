/* Browsers keep no page of somebody who is signed in: nobody reads it after signing out. What was
   typed into one and not sent is kept for this tab, and is there again when one goes back to it. */
import { fieldsIn, identityOf, isChanged, setValue, valueOf } from "./fields.js";
import { tabMemory } from "./memory.js";

const key = `typed ${document.body.dataset.user || ""} ${location.pathname}${location.search}`;
const visit = performance.getEntriesByType("navigation")[0];
/* A form that came back with what is wrong in it holds what was typed as its own. */
const isRefused = visit?.responseStatus === 422;
const isTyped = (field) => (isRefused || isChanged(field)) && !["password", "file"].includes(field.type);
let signsOut = false;

/* Going back to it asks for the form again, instead of posting it once more. */
const isOwn = (form) => form.method === "post" && new URL(form.action).pathname === location.pathname;
if (isRefused && [...document.forms].some(isOwn)) history.replaceState(history.state, "", location.href);

addEventListener("pagehide", () => {
  const typed = fieldsIn(document).filter(isTyped).map((field) => [identityOf(field), valueOf(field)]);
  tabMemory.set(key, signsOut || !typed.length ? null : JSON.stringify(typed));
});
document.addEventListener("submit", ({ target }) => {
  if (!target.matches("form[data-sign-out]")) return;
  signsOut = true;
  tabMemory.clear();
});

if (visit?.type === "back_forward") {
  const typed = new Map(JSON.parse(tabMemory.get(key) || "[]"));
  for (const field of fieldsIn(document)) {
    if (typed.has(identityOf(field))) setValue(field, typed.get(identityOf(field)));
  }
}
