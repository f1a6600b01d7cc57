/* What a form takes from this browser: a new job its clock, a meter the unit that its counter shows. */
import { memory } from "./memory.js";

for (const input of document.querySelectorAll("[data-zone]")) {
  if (!input.value) input.value = Intl.DateTimeFormat().resolvedOptions().timeZone || "";
}

const keyOf = (select) => `counter-unit-${select.form.elements.instrument?.value || ""}`;
function recallUnits(place) {
  place.querySelectorAll?.("[data-counter-unit]").forEach((select) => {
    select.value = memory.get(keyOf(select)) || select.value;
  });
}
document.addEventListener("change", ({ target }) => {
  if (target.matches("[data-counter-unit]")) memory.set(keyOf(target), target.value);
  else if (target.name === "instrument" && target.form) recallUnits(target.form);
});
document.addEventListener("htmx:load", ({ target }) => recallUnits(target));
