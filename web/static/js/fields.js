/* Fields of forms: what they hold, whether a person changed them, and which one is which after a swap. */
export const fieldsIn = (place) => [...place.querySelectorAll("input:not([type=hidden]), select, textarea")]
  .filter((field) => field.form && field.name);
export const isMark = (field) => field.type === "checkbox" || field.type === "radio";
export const valueOf = (field) => isMark(field) ? String(field.checked)
  : field.matches("select") ? [...field.selectedOptions].map((option) => option.value).join("\n")
  : field.value;
export const isChanged = (field) => isMark(field) ? field.checked !== field.defaultChecked
  : field.matches("select") ? ![...field.options].every((option) => option.selected === option.defaultSelected)
  : field.value !== field.defaultValue;

export function setValue(field, value) {
  if (isMark(field)) field.checked = value === "true";
  else if (field.matches("select")) {
    const values = value.split("\n");
    for (const option of field.options) option.selected = values.includes(option.value);
  } else field.value = value;
}

/* What tells a field from others once it is out of its form: its name, its form's address, and of a mark its value. */
export const identityOf = (field) => [field.form.getAttribute("action"), field.name, isMark(field) ? field.value : ""].join("\n");

/* Folds by their words; of several with the same words by their order too. */
export function foldsIn(place) {
  const byWords = new Map();
  for (const fold of place.querySelectorAll("details")) {
    let words = fold.querySelector("summary")?.textContent.trim();
    while (byWords.has(words)) words += "+";
    byWords.set(words, fold);
  }
  return byWords;
}
