/* The list of what waits on this device: each entry can be edited or dropped. */
import { readable, wordsOf } from "./outbox_entry.js";

const panel = () => document.getElementById("outbox");
const device = () => matchMedia("(pointer: coarse)").matches ? "phone" : "computer";
const isOpened = () => Boolean(panel()?.querySelector("details")?.open);

function element(tag, properties = {}, ...children) {
  const made = Object.assign(document.createElement(tag), properties);
  made.append(...children);
  return made;
}
const button = (words, onclick, className = "button is-small") => element("button", { type: "button", className, onclick }, words);

function fieldOf(field, index) {
  const id = `outbox-field-${index}`;
  const label = element("label", { htmlFor: id, className: "label" }, field.label);
  if (field.value instanceof File) return [label, element("p", { id, className: "mute" }, field.value.name)];
  const control = field.options
    ? element("select", { id }, ...field.options.map(([value, words]) => new Option(words, value)))
    : element("input", { id, className: "input is-small", type: "text", autocomplete: "off" });
  control.value = field.value;
  control.dataset.index = String(index);
  return [label, field.options ? element("span", { className: "select is-small" }, control) : control];
}
/* Only what was typed or chosen can be edited; a photo can be dropped with its entry. */
function editor(entry, edit, back) {
  const form = element("form", { className: "outbox-edit" });
  for (const field of readable(entry).filter(({ mark }) => !mark)) {
    form.append(element("div", { className: "field" }, ...fieldOf(field, entry.fields.indexOf(field))));
  }
  form.append(element("p", { className: "button-row" },
    element("button", { type: "submit", className: "button is-small is-dark" }, "Save"), button("Cancel", back)));
  form.addEventListener("submit", (event) => {
    event.preventDefault();
    event.stopPropagation();
    const fields = entry.fields.map((field) => ({ ...field }));
    for (const control of form.querySelectorAll("[data-index]")) fields[Number(control.dataset.index)].value = control.value;
    back();
    edit({ ...entry, fields });
  });
  return form;
}

function row(entry, actions) {
  const item = element("li");
  function closed() {
    const buttons = element("p", { className: "button-row" });
    if (readable(entry).some(({ mark, value }) => !mark && !(value instanceof File))) {
      buttons.append(button("Edit", () => {
        item.replaceChildren(editor(entry, actions.edit, closed));
        item.querySelector("[data-index]").focus();
      }));
    }
    if (entry.state === "refused") buttons.append(button("Send again", () => actions.edit(entry)));
    buttons.append(button("Drop", () => actions.remove(entry)));
    item.replaceChildren(element("p", {}, wordsOf(entry)));
    if (entry.state === "refused") item.append(element("p", { className: "refusal" }, entry.sentence));
    item.append(buttons);
  }
  closed();
  return item;
}

const countWords = (count) => count === 1 ? "One entry" : `${count} entries`;
export function showEntries(entries, actions) {
  const place = panel();
  if (!place) return;
  const refused = entries.filter(({ state }) => state === "refused").length;
  place.hidden = !entries.length;
  /* What is being edited stays. */
  if (!entries.length || place.querySelector(".outbox-edit:focus-within")) return;
  const words = `${countWords(entries.length)} on this ${device()}, not yet sent`;
  const summary = element("summary", {}, element("strong", {}, words), refused ? `, ${refused} refused` : "");
  const list = element("ol", {}, ...entries.map((entry) => row(entry, actions)));
  const fold = element("details", { open: isOpened() || refused > 0 }, summary, list);
  if (refused < entries.length) fold.append(element("p", { className: "button-row" }, button("Send now", actions.send)));
  place.replaceChildren(fold);
}
