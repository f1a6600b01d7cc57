/* The day plan: blocks that are dragged, stretched or nudged; conditions that slide. The server
   works out every answer, with fewer runs while something moves. No rule of the trade lives here. */
"use strict";

(() => {
  const $ = (selector, within = document) => within.querySelector(selector);
  const STEP_MIN = 15;
  /* The drawing's own units: how wide it is, and how many of them its hours take. */
  const drawn = (name) => Number($("#plan-lanes").dataset[name]);
  const { say, WAITING } = window;

  /* One request at a time. What is to be kept waits its turn and is never dropped; of what is only
     tried while one is under way, the newest counts. */
  let busy = false, wish = null;
  const keeps = [];
  function attempt(url, values) {
    wish = { url, values };
    if (!busy) next();
  }
  function keep(url, values, done) {
    keeps.push({ url, values, done });
    wish = null;
    if (!busy) next();
  }
  async function next() {
    const { url, values, done } = keeps.shift() || wish;
    if (wish && wish.url === url && wish.values === values) wish = null;
    busy = true;
    const form = new FormData($("#plan-view") || undefined);
    for (const [name, value] of values) form.set(name, value);
    const token = JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"];
    const slow = setTimeout(() => say(WAITING), 300);
    try {
      const answer = await fetch(url, {
        method: "POST", body: form, credentials: "same-origin",
        headers: { "HX-Request": "true", "X-CSRFToken": token },
      });
      const text = await answer.text();
      clearTimeout(slow);
      if (answer.ok) { say(""); if (!wish && !keeps.length) put(text); }
      else if (answer.status === 422) say(text);
      else say(window.refusedWords(answer.status));
      if (done) done(answer.ok);
    } catch {
      clearTimeout(slow);
      say("The site cannot be reached. Nothing was changed: try again.");
      if (done) done(false);
    }
    busy = false;
    if (keeps.length || wish) next();
  }

  /* Every element of the answer takes the place of the one with its id. */
  function put(text) {
    const fresh = new DOMParser().parseFromString(text, "text/html");
    for (const element of [...fresh.body.children]) {
      const old = element.id && document.getElementById(element.id);
      if (!old) continue;
      element.removeAttribute("hx-swap-oob");
      const scrolled = [...old.querySelectorAll(".scroll")].map((one) => one.scrollLeft);
      old.replaceWith(element);
      [...element.querySelectorAll(".scroll")].forEach((one, index) => { one.scrollLeft = scrolled[index] || 0; });
      htmx.process(element);
    }
    document.dispatchEvent(new CustomEvent("needle:answered"));
    settle();
  }

  /* The chosen block. It stays chosen when the page is drawn anew. */
  let chosen = null, moved = 0, edge = "", timer = null;
  const block = () => chosen && document.getElementById(chosen.id);
  const alike = () => chosen && $(`.block[data-of="${chosen.of}"][data-key="${chosen.key}"][data-index="${chosen.index}"]`);
  function choose(element) {
    if (chosen && chosen.id !== element.id) commit();
    document.querySelectorAll(".block[aria-pressed=true]").forEach((one) => one.setAttribute("aria-pressed", "false"));
    element.setAttribute("aria-pressed", "true");
    const { of, key, index } = element.dataset;
    chosen = { id: element.id, of, key, index };
    const words = $("#block-words"), buttons = $(".block-buttons");
    if (words) words.textContent = element.getAttribute("aria-label");
    if (buttons) buttons.hidden = false;
    document.querySelectorAll("[data-edge]").forEach((one) => { one.hidden = !$(".block-end", element); });
  }
  const address = (does) => `${$("#plan-lanes").dataset.plan}${chosen.of}/${chosen.key}/blocks/${chosen.index}/${does}/`;

  function show(element, minutes, at) {
    const units = (minutes / drawn("spanMin")) * drawn("plot");
    const body = $(".block-body", element);
    if (!body.dataset.x) { body.dataset.x = body.getAttribute("x"); body.dataset.wide = body.getAttribute("width"); }
    const x = Number(body.dataset.x), wide = Number(body.dataset.wide);
    body.setAttribute("x", at === "end" ? x : x + units);
    body.setAttribute("width", Math.max(3, at === "end" ? wide + units : at === "begin" ? wide - units : wide));
    const clock = (minute) => {
      const begin = $("#plan-charts");
      return begin ? `${minute >= 0 ? "+" : "−"}${Math.floor(Math.abs(minute) / 60)} h ${Math.abs(minute) % 60} min` : "";
    };
    $("#block-words").textContent = `${element.dataset.name}: ${at ? `${at} ` : ""}${clock(minutes)}`;
  }
  function tried(element, minutes, at) {
    show(element, minutes, at);
    attempt(address("move"), [["by_min", minutes], ["edge", at], ["quick", "1"]]);
  }
  /* What was nudged or dragged is kept once the hand rests. */
  function commit() {
    clearTimeout(timer);
    if (!chosen || !moved) { moved = 0; return; }
    const minutes = moved, at = edge, element = block();
    moved = 0;
    const body = element && $(".block-body", element);
    // Where it is drawn now is where the next step begins, whenever the answer comes.
    const before = body && { x: body.dataset.x, wide: body.dataset.wide };
    if (body) { body.dataset.x = body.getAttribute("x"); body.dataset.wide = body.getAttribute("width"); }
    keep(address("move"), [["by_min", minutes], ["edge", at]], (ok) => {
      if (ok || !element) return;
      Object.assign(body.dataset, before);
      back(element);
    });
  }
  function back(element) {
    const body = $(".block-body", element);
    if (body && body.dataset.x) { body.setAttribute("x", body.dataset.x); body.setAttribute("width", body.dataset.wide); }
    $("#block-words").textContent = element.getAttribute("aria-label");
  }
  function nudge(minutes, at) {
    const element = block();
    if (!element) return;
    if (at !== edge) { commit(); edge = at; }
    moved += minutes;
    tried(element, moved, edge);
    clearTimeout(timer);
    timer = setTimeout(commit, 700);
  }

  /* Dragging, with mouse or thumb. */
  let drag = null;
  document.addEventListener("pointerdown", (event) => {
    const element = event.target.closest?.(".block");
    if (!element || event.button) return;
    choose(element);
    commit();
    const end = event.target.closest(".block-end");
    edge = end ? (end.classList.contains("begin") ? "begin" : "end") : "";
    const svg = element.ownerSVGElement;
    const scale = svg.getBoundingClientRect().width / drawn("width");
    const perPixel = drawn("spanMin") / (drawn("plot") * scale);
    drag = { element, from: event.clientX, perPixel, minutes: 0 };
    element.setPointerCapture(event.pointerId);
    event.preventDefault();
    element.focus({ preventScroll: true });
  });
  document.addEventListener("pointermove", (event) => {
    if (!drag) return;
    const minutes = Math.round(((event.clientX - drag.from) * drag.perPixel) / STEP_MIN) * STEP_MIN;
    if (minutes === drag.minutes) return;
    drag.minutes = minutes;
    tried(drag.element, minutes, edge);
  });
  document.addEventListener("pointerup", () => {
    if (!drag) return;
    moved = drag.minutes;
    drag = null;
    commit();
  });
  document.addEventListener("pointercancel", () => { if (drag) { back(drag.element); drag = null; } });

  document.addEventListener("focusin", (event) => {
    const element = event.target.closest?.(".block");
    if (element && (!chosen || chosen.id !== element.id)) choose(element);
  });
  document.addEventListener("keydown", (event) => {
    const element = event.target.closest?.(".block");
    if (!element || event.ctrlKey || event.metaKey || event.altKey) return;
    const far = event.shiftKey ? 60 : STEP_MIN;
    const steps = { ArrowLeft: [-far, ""], ArrowRight: [far, ""], ArrowUp: [far, "end"], ArrowDown: [-far, "end"] };
    const step = steps[event.key];
    if (step && (!step[1] || $(".block-end", element))) { choose(element); nudge(...step); }
    else if (event.key === "Delete") { choose(element); keep(address("remove"), []); }
    else if (event.key === "Enter" || event.key === " ") choose(element);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }, true);
  document.addEventListener("click", (event) => {
    const button = event.target.closest?.("[data-nudge], [data-do]");
    if (!button || !block()) return;
    if (button.dataset.do) { commit(); keep(address(button.dataset.do), []); }
    else nudge(Number(button.dataset.nudge), button.dataset.edge || "");
  });

  /* Conditions that slide. */
  const form = () => $("#what-if");
  const values = (quick) => [...new FormData(form()).entries(), ...(quick ? [["quick", "1"]] : [])];
  function told() {
    document.querySelectorAll("#what-if output").forEach((output) => {
      const input = document.getElementById(output.dataset.for);
      output.textContent = `${Number(input.value).toFixed(Number(input.value) % 1 ? 1 : 0)} ${input.dataset.unit}`;
    });
  }
  document.addEventListener("input", (event) => {
    if (!event.target.closest?.("#what-if")) return;
    told();
    $(".slide-buttons").hidden = false;
    attempt(form().dataset.try, values(true));
  });
  document.addEventListener("change", (event) => {
    if (event.target.closest?.("#what-if")) attempt(form().dataset.try, values(false));
  });
  document.addEventListener("submit", (event) => {
    if (event.target.id !== "what-if") return;
    event.preventDefault();
    keep(form().dataset.keep, values(false));
  });
  document.addEventListener("reset", (event) => {
    if (event.target.id !== "what-if") return;
    setTimeout(() => { told(); $(".slide-buttons").hidden = true; attempt(form().dataset.try, values(false)); }, 0);
  });

  /* Hours pass under a thumb that sweeps over the charts. */
  let swept = null;
  document.addEventListener("touchstart", (event) => {
    const touch = event.touches[0];
    swept = event.target.closest?.(".charts-scroll") ? { x: touch.clientX, y: touch.clientY } : null;
  }, { passive: true });
  document.addEventListener("touchend", (event) => {
    if (!swept) return;
    const touch = event.changedTouches[0], x = touch.clientX - swept.x, y = touch.clientY - swept.y;
    swept = null;
    if (Math.abs(x) > 60 && Math.abs(x) > 2 * Math.abs(y)) $(`[data-key="${x < 0 ? "." : ","}"]`)?.click();
  }, { passive: true });

  /* Drawn for another width (a telephone turned, a first visit): once more for this one. */
  let fitted = "";
  function fit() {
    const lanes = $("#plan-lanes"), narrow = window.narrowScreen();
    if (!lanes || fitted === String(narrow) || (drawn("width") < 500) === narrow) return;
    fitted = String(narrow);
    htmx.ajax("GET", lanes.dataset.plan, { source: "body", target: "#plan-body", swap: "outerHTML", values: { show: $("#plan-part [name=show]").value } });
  }
  addEventListener("needle:screen", () => { fitted = ""; fit(); });

  /* After the page was drawn anew: the sliders' words, and the block that was chosen. */
  function settle() {
    fit();
    if (form()) told();
    const again = block() || alike();
    if (again && $("#block-words")) {
      const focused = document.activeElement === document.body;
      choose(again);
      if (focused) again.focus({ preventScroll: true });
    }
  }
  document.addEventListener("DOMContentLoaded", settle);
  document.addEventListener("htmx:afterSettle", (event) => { if (event.target.id === "plan-body") settle(); });
})();
