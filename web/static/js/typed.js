/* An answer never takes away what was typed meanwhile, nor opens or closes a fold. What a person sent
   leaves alone what was typed after it was sent. */
import { fieldsIn, foldsIn, identityOf, isChanged, setValue, valueOf } from "./fields.js";
import { asksByItself } from "./status_line.js";

const asSent = new WeakMap(), kept = new WeakMap();

document.addEventListener("htmx:beforeRequest", ({ detail: { xhr } }) => {
  asSent.set(xhr, new Map(fieldsIn(document).map((field) => [field, valueOf(field)])));
});
const isChangedSince = (xhr) => (field) => {
  const before = asSent.get(xhr)?.get(field);
  return before !== undefined && before !== valueOf(field);
};

document.addEventListener("htmx:beforeSwap", ({ detail: { requestConfig: { elt }, target, xhr } }) => {
  const isTyped = asksByItself(elt) ? isChanged : isChangedSince(xhr);
  const focused = document.activeElement;
  const typed = fieldsIn(target).filter(isTyped);
  /* A field that one is in, and that another choice leaves out, stays too: letters are on their way. */
  const held = fieldsIn(target).filter((field) => typed.includes(field) || field === focused);
  const isWhole = held.length > 0 || asksByItself(elt);
  const folds = [...foldsIn(target)].filter(([, fold]) => isWhole || fold.matches(".plan-fold"));
  if (!isWhole && !folds.length) return;
  kept.set(xhr, {
    asks: elt, region: target.id, focused,
    typed: new Map(typed.map((field) => [identityOf(field), field])),
    rows: held.filter((field) => valueOf(field) || field === focused).map((field) => [field.name, field.closest(".field")]),
    opened: new Map(folds.map(([words, fold]) => [words, fold.open])),
  });
});

document.addEventListener("htmx:afterSwap", ({ detail }) => {
  if (!kept.has(detail.xhr)) return;
  const { asks, region, focused, typed, rows, opened } = kept.get(detail.xhr);
  kept.delete(detail.xhr);
  const now = document.getElementById(region) || document;
  if (asks.matches("select")) keepRows(asks.form, rows);
  for (const [words, fold] of foldsIn(now)) fold.open = opened.get(words) ?? fold.open;
  for (const field of typed.size ? fieldsIn(now) : []) {
    const before = typed.get(identityOf(field));
    if (!before) continue;
    if (field.type === "file") field.files = before.files;
    else setValue(field, valueOf(before));
  }
  /* In a fold that was closed for a moment, or in a row that was moved, focus was lost. */
  if (document.activeElement === document.body) {
    const field = focused.isConnected ? focused : focused.id && document.getElementById(focused.id);
    if (field) field.focus({ preventScroll: true });
  }
});

/* Fields that another choice leaves out stay where something was typed into them. */
function keepRows(form, rows) {
  const place = form?.querySelector(".more > .fields");
  for (const [name, row] of place ? rows : []) {
    if (row && !fieldsIn(form).some((field) => field.name === name)) place.append(row);
  }
}
