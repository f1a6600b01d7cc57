/* An entry of the outbox: what a form was to send, with what a person needs to read and edit it. */
import { clockOf } from "./clock.js";
import { fieldsIn, isMark } from "./fields.js";

/* Not kept: the page that sends it has its own. */
const LEFT_OUT = new Set(["csrfmiddlewaretoken", "made_at"]);
const WITHOUT_WORDS = new Set(["client_key", "on_before", "loads_shown"]);

/* A version 4 UUID (RFC 9562); crypto.randomUUID needs HTTPS. */
export function newKey() {
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  bytes[6] = (bytes[6] & 0x0f) | 0x40;
  bytes[8] = (bytes[8] & 0x3f) | 0x80;
  const digits = [...bytes].map((byte) => byte.toString(16).padStart(2, "0")).join("");
  return digits.replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, "$1-$2-$3-$4-$5");
}

const textOf = (element) => element?.textContent.trim().replace(/\s+/g, " ") || "";
function labelOf(field) {
  const group = isMark(field) && field.closest("fieldset")?.querySelector("legend");
  const label = group || field.labels?.[0]?.cloneNode(true);
  /* The name of a chosen file is its value. */
  label?.querySelector(".photo-chosen")?.remove();
  return textOf(label).replace(/[*:]$/, "").trim();
}
const optionsOf = (field) => field?.matches("select")
  ? [...field.options].map((option) => [option.value, textOf(option)]) : null;

/* From a form and what it sends (FormData); `madeAt` is by this device's clock, ms. */
export function entryOf({ form, data, url, user, submitter, madeAt }) {
  const controls = fieldsIn(form);
  const fields = [...data.entries()].filter(([name]) => !LEFT_OUT.has(name)).map(([name, value]) => {
    const field = controls.find((other) => other.name === name && (!isMark(other) || other.value === value));
    const label = field ? labelOf(field) : "";
    return { name, value, label, options: optionsOf(field), mark: Boolean(field && isMark(field)) };
  });
  const button = submitter?.name ? textOf(submitter) : "";
  return { user, url, fields, madeAt, what: [form.dataset.outbox, button].filter(Boolean).join(": ") };
}

const isEmptyFile = (value) => value instanceof File && !value.size;
/* Fields that a person typed into or chose in, and can read again. */
export const readable = (entry) => entry.fields.filter(({ name, label, value }) =>
  label && !WITHOUT_WORDS.has(name) && value !== "" && !isEmptyFile(value));

function valueWords({ value, options }) {
  if (value instanceof File) return value.name;
  return options?.find(([key]) => key === value)?.[1] || value;
}
export function wordsOf(entry) {
  const values = readable(entry).map((field) => `${field.label} ${valueWords(field)}`).join(", ");
  return `${clockOf(entry.madeAt)} ${entry.what}${values ? `: ${values}` : ""}`;
}
/* What is sent: the fields, and when they were made, by the site's clock; `aheadMs` is how far that is
   ahead of this device's. */
export function bodyOf(entry, aheadMs) {
  const body = new FormData();
  for (const { name, value } of entry.fields) if (!isEmptyFile(value)) body.append(name, value);
  body.append("made_at", String((entry.madeAt + aheadMs) / 1000));
  return body;
}
