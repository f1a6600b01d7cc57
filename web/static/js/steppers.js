/* Buttons to either side of a field that is counted up and down: bars, counts, a charge such as 61 %
   or 3 of 4. An empty field starts from its last value (data-last). */
function stepped(text, by, most) {
  const number = text.match(/\d+(?:[.,]\d+)?/)?.[0];
  if (number === undefined) return text;
  const next = Math.round(Number(number.replace(",", ".")) + by);
  const of = text.match(/\d+\D+(\d+)/)?.[1] ?? most;
  return next < 0 || next > Number(of) ? text : text.replace(number, String(next));
}
function stepBy(field, by) {
  const from = field.value || field.dataset.last || (by > 0 ? "0" : "");
  const most = field.dataset.most || (from.includes("%") ? 100 : Infinity);
  const next = from && stepped(from, by, most);
  if (!next || Number(next) < Number(field.dataset.least || 0)) return;
  field.value = next;
  for (const kind of ["input", "change"]) field.dispatchEvent(new Event(kind, { bubbles: true }));
}
function button(field, by) {
  const label = (field.labels?.[0]?.textContent || field.ariaLabel || "").trim().replace(/[*:]$/, "");
  return Object.assign(document.createElement("button"), {
    type: "button", className: "button", textContent: by < 0 ? "−" : "+",
    ariaLabel: `${label} ${by < 0 ? "less" : "more"}`, onclick: () => stepBy(field, by),
  });
}
function attach(place) {
  for (const field of place.querySelectorAll?.("input[data-stepper]") || []) {
    const isForTouch = field.dataset.stepper === "touch";
    if (field.closest(".stepper") || (isForTouch && !matchMedia("(pointer: coarse)").matches)) continue;
    const row = Object.assign(document.createElement("span"), { className: "stepper" });
    field.replaceWith(row);
    row.append(button(field, -1), field, button(field, 1));
  }
}
addEventListener("htmx:load", ({ target }) => attach(target));
attach(document);
