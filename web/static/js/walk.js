/* The walk round: rows are added by a tap, by Enter, by "the same again", and from a spreadsheet. */
import { fieldsIn, isMark } from "./fields.js";

const rows = () => [...document.querySelectorAll("[data-walk-row]")];
const total = () => document.querySelector("[name=row-TOTAL_FORMS]");
const most = () => Number(document.querySelector("[name=row-MAX_NUM_FORMS]").value);
const partOf = (field) => field.name.replace(/^row-\d+-/, "");
const inRow = (row, part) => fieldsIn(row).find((field) => partOf(field) === part);
/* A client's list has no appliance to choose. */
const isEmpty = (row) => ["name", "watts", "often"].every((part) => !inRow(row, part).value);

function addRow() {
  const number = Number(total().value);
  if (number >= most()) return null;
  const made = document.createElement("template");
  made.innerHTML = document.getElementById("walk-row").innerHTML.replaceAll("__prefix__", String(number));
  const row = made.content.firstElementChild;
  document.getElementById("walk-rows").append(row);
  total().value = String(number + 1);
  globalThis.htmx?.process(row);
  return row;
}
const freeRow = () => rows().find(isEmpty) || addRow();

/* "Lamp", then "Lamp 2". */
function nextName(name) {
  const taken = new Set(rows().map((row) => inRow(row, "name").value));
  const stem = name.replace(/ \d+$/, "");
  let number = 2;
  while (taken.has(`${stem} ${number}`)) number += 1;
  return taken.has(name) ? `${stem} ${number}` : name;
}
function addOf(appliance, name) {
  const row = freeRow();
  if (!row) return;
  if (appliance) {
    inRow(row, "appliance").value = appliance;
    inRow(row, "name").value = nextName(name);
  }
  inRow(row, appliance ? "watts" : "name").focus();
}
function sameAgain(row) {
  const copy = addRow();
  if (!copy) return;
  for (const field of fieldsIn(row)) {
    const other = inRow(copy, partOf(field));
    if (other && !isMark(field) && field.type !== "file") other.value = field.value;
  }
  inRow(copy, "name").value = nextName(inRow(row, "name").value);
  row.after(copy);
  inRow(copy, "name").focus();
}
function removeRow(row) {
  for (const field of fieldsIn(row)) {
    if (isMark(field)) field.checked = false;
    else if (partOf(field) !== "read_from") field.value = "";
  }
  row.hidden = true;
}

document.addEventListener("click", ({ target }) => {
  const button = target.closest("button");
  if (button?.matches("[data-walk-add]")) addOf(button.dataset.walkAdd, button.dataset.walkName);
  if (button?.matches("[data-walk-same]")) sameAgain(button.closest("[data-walk-row]"));
  if (button?.matches("[data-walk-remove]")) removeRow(button.closest("[data-walk-row]"));
});
/* Enter goes on to the next field's row; the list is sent by its button. */
document.addEventListener("keydown", (event) => {
  const row = event.target.closest?.("[data-walk-row]");
  if (event.key !== "Enter" || !row || event.target.matches("button, select")) return;
  event.preventDefault();
  const shown = rows().filter((other) => !other.hidden);
  const next = shown[shown.indexOf(row) + 1] || addRow();
  if (next) inRow(next, "name").focus();
});
/* A spreadsheet's cells, pasted into any field of the list. */
document.addEventListener("paste", (event) => {
  const text = event.clipboardData?.getData("text/plain") || "";
  if (!event.target.closest?.("[data-walk-row]") || !/[\t\n].*\S/s.test(text.trim())) return;
  event.preventDefault();
  document.getElementById("walk-text").value = text;
  document.getElementById("walk-paste").requestSubmit();
});
document.addEventListener("htmx:configRequest", ({ detail }) => {
  if (detail.elt.id === "walk-paste") detail.parameters.first = total().value;
});
document.addEventListener("htmx:afterSwap", ({ detail }) => {
  if (detail.requestConfig.elt.id !== "walk-paste") return;
  rows().filter(isEmpty).forEach((row) => { row.hidden = true; });
  const numbers = rows().map((row) => Number(inRow(row, "name").name.match(/\d+/)[0]));
  total().value = String(Math.max(...numbers) + 1);
  document.getElementById("walk-text").value = "";
  document.getElementById("walk-table").open = false;
});
