/* The answer bar: its needle swings to the new answer, which is read out once when it changed. */
import { memory } from "./memory.js";

const SWING_MS = 900;
const still = matchMedia("(prefers-reduced-motion: reduce)");
const find = (selector) => document.querySelector(selector);

/* How far the needle is still away from its mark, as a share of the way, 0 to 1 of the swing's time:
   a damped swing, past the mark once, then at rest on it. */
export const leftOfSwing = (share) => share >= 1 ? 0 : Math.exp(-5 * share) * Math.cos(7 * share) * (1 - share);

const headline = () => find("#answer-bar .answer-headline")?.textContent.trim().replace(/\s+/g, " ") || "";
let lastSaid = "";
function readOut() {
  const words = headline();
  if (!words || words === lastSaid) return;
  lastSaid = words;
  find("#answer-said").textContent = words;
}

/* From where it last stood on this job to where it stands now. */
function swing() {
  const needle = find("#answer-bar .needle");
  if (!needle) return;
  const job = (location.pathname.match(/\/jobs\/(\d+)/) || [])[1];
  const now = Number(needle.dataset.degrees);
  const before = Number(memory.get(`needle-${job}`) ?? now);
  memory.set(`needle-${job}`, String(now));
  const turnTo = (degrees) => needle.setAttribute("transform", `rotate(${degrees} 88 76)`);
  if (still.matches || Math.abs(before - now) < 0.05) { turnTo(now); return; }
  const began = performance.now();
  function step(moment) {
    const share = Math.min(1, (moment - began) / SWING_MS);
    turnTo(now + (before - now) * leftOfSwing(share));
    if (share < 1 && needle.isConnected) requestAnimationFrame(step);
  }
  turnTo(before);
  requestAnimationFrame(step);
}

function answered() {
  swing();
  readOut();
}
document.addEventListener("htmx:afterSettle", ({ target }) => {
  if (target.id === "answer-bar" || target.querySelector?.("#answer-bar")) answered();
});
document.addEventListener("htmx:oobAfterSwap", ({ detail }) => {
  if (detail.target.id === "answer-bar") answered();
});
swing();
lastSaid = headline();
