/* Browsers keep no page of somebody who is signed in: nobody reads it after signing out. What was
   typed into one and not sent is kept for this tab, and is there again when one goes back to it. */
import { fieldsIn, identityOf, isChanged, setValue, valueOf } from "./fields.js";
import { tabMemory } from "./memory.js";

const key = `typed ${document.body.dataset.user || ""} ${location.pathname}${location.search}`;
const isTyped = (field) => isChanged(field) && !["password", "file"].includes(field.type);
let signsOut = false;

addEventListener("pagehide", () => {
  const typed = fieldsIn(document).filter(isTyped).map((field) => [identityOf(field), valueOf(field)]);
  tabMemory.set(key, signsOut || !typed.length ? null : JSON.stringify(typed));
});
document.addEventListener("submit", ({ target }) => {
  if (!target.matches("form[data-sign-out]")) return;
  signsOut = true;
  tabMemory.clear();
});

if (performance.getEntriesByType("navigation")[0]?.type === "back_forward") {
  const typed = new Map(JSON.parse(tabMemory.get(key) || "[]"));
  for (const field of fieldsIn(document)) {
    if (typed.has(identityOf(field))) setValue(field, typed.get(identityOf(field)));
  }
}
