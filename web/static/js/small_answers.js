/* Small answers that need no site: whether a meter's figures agree while there is no connection, and
   the share of time on of a tally while it is being written. */
import { agree, general } from "./agreement.js";
import { tallyWords } from "./tally.js";

const FIGURES = { volts: "V", amps: "A", watts: "W", va: "VA", pf: "" };
/* A figure as typed; undefined if it is empty or only the site can read it. */
function figureOf(field, unit) {
  const match = field?.value.trim().match(/^(\d+(?:[.,]\d+)?)\s*(k?)([A-Za-z]*)$/);
  if (!match || (match[3] && match[3].toUpperCase() !== unit)) return undefined;
  return Number(match[1].replace(",", ".")) * (match[2] ? 1000 : 1);
}
function check(form) {
  const meters = JSON.parse(form.dataset.meters || "{}");
  const meter = meters[form.elements.instrument?.value];
  const read = Object.fromEntries(Object.entries(FIGURES).map(([key, unit]) => [key, figureOf(form.elements[key], unit)]).filter(([, value]) => value !== undefined));
  if (!meter || !Object.keys(read).length || (read.pf || 0) > 1) return "";
  const found = agree(read, meter);
  const figures = [["watts", " W"], ["va", " VA"]].filter(([key]) => found[key] !== null).map(([key, unit]) => general(found[key], 4) + unit);
  const mark = found.checked ? (found.consistent ? "✓ " : "✕ ") : "";
  return `${mark}${found.message}${figures.length ? ` (${figures.join(", ")})` : ""}`;
}
function showCheck({ target }) {
  if (target.id !== "meter-check") return;
  const words = document.createElement("p");
  words.className = "mute";
  words.textContent = check(document.getElementById("meter-form"));
  target.replaceChildren(words);
}
document.addEventListener("htmx:sendError", showCheck);

document.addEventListener("input", ({ target }) => {
  if (!target.matches("textarea[name=edges]")) return;
  let line = target.parentElement.querySelector(".tally-words");
  if (!line) {
    line = Object.assign(document.createElement("p"), { className: "tally-words mute" });
    line.setAttribute("role", "status");
    target.after(line);
  }
  line.textContent = tallyWords(target.value);
});

/* The wall card: what may run at the charge that is typed, by the row of the time it is. */
const CHARGE = /^(\d+(?:[.,]\d+)?)\s*%?$/, BARS = /^(\d+)\s*(?:of|\/)\s*(\d+)(?:\s*bars?)?$/i;
export function chargeOf(text) {
  const bars = text.trim().match(BARS), percent = text.trim().match(CHARGE);
  /* A bar is lit for all of its part: only what lies below it is sure. */
  if (bars) return Number(bars[1]) <= Number(bars[2]) ? Math.max(0, Number(bars[1]) - 1) / Number(bars[2]) : null;
  const share = percent ? Number(percent[1].replace(",", ".")) / 100 : null;
  return share !== null && share <= 1 ? share : null;
}
/* Which loads may run: "all", "shoulds" or "musts"; thresholds are shares, "" for never. */
export function mayRun(charge, allFrom, shouldsFrom) {
  if (allFrom !== "" && charge >= Number(allFrom)) return "all";
  return shouldsFrom !== "" && charge >= Number(shouldsFrom) ? "shoulds" : "musts";
}
/* The place of the row that a minute of the day belongs to: the one that began last. Of several days
   the first, which asks for most. */
export function rowAt(minutes, minute) {
  const passed = minutes.map((begin) => (minute - begin + 1440) % 1440);
  return passed.indexOf(Math.min(...passed));
}
document.addEventListener("input", ({ target }) => {
  if (target.id !== "card-charge") return;
  const charge = chargeOf(target.value), now = new Date();
  const rows = [...document.querySelectorAll("[data-card-minute]")];
  const row = rows[rowAt(rows.map((other) => Number(other.dataset.cardMinute)), 60 * now.getHours() + now.getMinutes())];
  const answer = document.getElementById("card-answer");
  if (charge === null || !row) { answer.textContent = ""; return; }
  const found = mayRun(charge, row.dataset.all, row.dataset.shoulds);
  answer.textContent = `By the row of ${row.querySelector("th").textContent}: ${answer.dataset[found]}`;
});
