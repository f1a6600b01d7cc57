/* Reminders while a watch is open: in the title, aloud for screen readers, and by the browser where
   it may. Never the only warning: the steps themselves stand on the page. */
const FRESH_MS = 15 * 60 * 1000;
const LOOK_MS = 20 * 1000;
const title = document.title;
const reminded = new Set();

function remind(words) {
  document.getElementById("watch-said").textContent = words;
  document.title = `${words} · ${title}`;
  if ("Notification" in window && Notification.permission === "granted") {
    new Notification(words, { tag: words });
  }
}

function lookForSteps() {
  for (const step of document.querySelectorAll("[data-step-at]")) {
    const words = step.dataset.stepWords;
    const late = Date.now() - Date.parse(step.dataset.stepAt);
    if (late < 0 || late > FRESH_MS || reminded.has(words)) continue;
    reminded.add(words);
    remind(words);
  }
}

const ask = document.getElementById("watch-ask");
if (ask && "Notification" in window && Notification.permission === "default") {
  ask.hidden = false;
  ask.querySelector("button").addEventListener("click", async () => {
    await Notification.requestPermission();
    ask.hidden = true;
  });
}
/* Whoever does something here has read it. */
document.addEventListener("click", () => { document.title = title; });
setInterval(lookForSteps, LOOK_MS);
lookForSteps();

/* A switch that waits to be sent shows what it was switched to, and switches back with the next tap. */
document.addEventListener("outbox:waits", ({ target: form }) => {
  if (!form.matches("[data-outbox-switch]")) return;
  const button = form.querySelector("[role=switch]");
  const isOn = button.getAttribute("aria-checked") !== "true";
  button.setAttribute("aria-checked", String(isOn));
  form.querySelector("input[name=on]")?.remove();
  if (!isOn) form.append(Object.assign(document.createElement("input"), { type: "hidden", name: "on", value: "1" }));
  form.dataset.outbox = form.dataset.outbox.replace(/ (on|off)$/, isOn ? " off" : " on");
});
