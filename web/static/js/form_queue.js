/* A form that is sent again while it is on its way waits for its turn, and is empty for what comes
   next: what was typed into it is a thing of its own, and goes once the answer is there. A plain form
   is sent once. */
import { fieldsIn, isChanged, isMark, setValue, valueOf } from "./fields.js";

const onItsWay = new WeakSet(), queues = new Map();

document.addEventListener("htmx:beforeRequest", ({ defaultPrevented, detail: { elt, xhr } }) => {
  if (defaultPrevented || !elt.matches("form")) return;
  onItsWay.add(elt);
  xhr.addEventListener("loadend", () => onItsWay.delete(elt));
});
/* What was typed into a form, taken out of it. */
function take(form) {
  const entries = fieldsIn(form).filter(isChanged)
    .map((field) => ({ name: field.name, mark: isMark(field) && field.value, value: valueOf(field) }));
  form.reset();
  return entries;
}
function fill(form, entries) {
  for (const { name, mark, value } of entries) {
    const field = fieldsIn(form).find((other) => other.name === name && (!isMark(other) || other.value === mark));
    if (field) setValue(field, value);
  }
}
document.addEventListener("submit", (event) => {
  const form = event.target;
  /* What is sent by each change is sent already: Enter made one. */
  if (form.matches("[data-on-change]")) event.preventDefault();
  if (form.matches("[data-on-change]") || !onItsWay.has(form) || !form.id) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  const entries = take(form);
  if (entries.length) queues.set(form.id, [...(queues.get(form.id) || []), entries]);
}, true);
document.addEventListener("htmx:afterSettle", () => {
  for (const [id, queue] of queues) {
    const form = document.getElementById(id);
    if (!form || !queue.length || onItsWay.has(form)) continue;
    const next = take(form);
    fill(form, queue.shift());
    form.requestSubmit();
    form.reset();
    fill(form, next);
  }
});

document.addEventListener("submit", (event) => {
  const form = event.target;
  if (form.matches("[hx-post]") || form.method !== "post") return;
  if (form.dataset.sent) event.preventDefault();
  else form.dataset.sent = "yes";
});
addEventListener("pageshow", () => {
  document.querySelectorAll("form[data-sent]").forEach((form) => delete form.dataset.sent);
});
