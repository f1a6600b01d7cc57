/* Menus, theme, keys, the needle's sway, dropped files. No rule of the trade lives here. */
"use strict";

document.addEventListener("alpine:init", () => {
  Alpine.data("menu", () => ({
    open: false,
    get expanded() { return String(this.open); },
    toggle() { this.open = !this.open; },
    close() { this.open = false; },
    get words() { return this.open ? "Less" : "More"; },
    get css() { return this.open ? "open" : ""; },
  }));
  Alpine.data("look", () => ({
    set(theme) {
      document.cookie = `theme=${theme}; path=/; max-age=31536000; SameSite=Lax`;
      if (theme) document.documentElement.dataset.theme = theme;
      else delete document.documentElement.dataset.theme;
    },
    system() { this.set(""); },
    light() { this.set("light"); },
    dark() { this.set("dark"); },
  }));
});

(() => {
  const $ = (selector) => document.querySelector(selector);
  const store = {
    get(key) { try { return localStorage.getItem(key); } catch { return null; } },
    set(key, value) { try { localStorage.setItem(key, value); } catch { /* private window */ } },
  };
  const still = matchMedia("(prefers-reduced-motion: reduce)");

  /* The answer is told once to those who hear the page, when it is another than before. */
  const headline = () => $("#answer-bar .answer-headline")?.textContent.trim().replace(/\s+/g, " ") || "";
  let told = "";
  function tellAnswer() {
    const words = headline();
    if (!words || words === told) return;
    told = words;
    $("#answer-said").textContent = words;
  }

  document.addEventListener("click", (event) => {
    if (event.target.closest("[data-print]")) window.print();
  });

  /* The needle swings from where it last stood on this job to where it stands now. */
  function sway() {
    const needle = $("#answer-bar .needle");
    if (!needle) return;
    const job = (location.pathname.match(/\/jobs\/(\d+)/) || [])[1];
    const now = Number(needle.dataset.degrees);
    const before = Number(store.get(`needle-${job}`) ?? now);
    store.set(`needle-${job}`, String(now));
    const place = (degrees) => needle.setAttribute("transform", `rotate(${degrees} 88 76)`);
    if (still.matches || Math.abs(before - now) < 0.05) { place(now); return; }
    const began = performance.now(), length = 900;
    function step(moment) {
      const share = Math.min(1, (moment - began) / length);
      /* A damped swing: past the mark once, then at rest on it. */
      const left = Math.exp(-5 * share) * Math.cos(7 * share) * (1 - share);
      place(now + (before - now) * left);
      if (share < 1 && needle.isConnected) requestAnimationFrame(step);
    }
    place(before);
    requestAnimationFrame(step);
  }

  /* What the server draws timelines for. */
  const narrow = matchMedia("(max-width: 700px)");
  window.narrowScreen = () => narrow.matches;
  function tellScreen() {
    document.cookie = `screen=${narrow.matches ? "narrow" : "wide"}; path=/; max-age=31536000; SameSite=Lax`;
  }
  tellScreen();
  narrow.addEventListener("change", () => { tellScreen(); dispatchEvent(new Event("needle:screen")); });

  /* A new job keeps the browser's clock. */
  for (const input of document.querySelectorAll("[data-zone]")) {
    if (!input.value) input.value = Intl.DateTimeFormat().resolvedOptions().timeZone || "";
  }

  /* What each meter's counter shows, Wh or kWh, is remembered with the meter. */
  const meterOf = (select) => `counter-unit-${select.form.elements.instrument?.value || ""}`;
  function recallUnits(within) {
    within.querySelectorAll?.("[data-counter-unit]").forEach((select) => {
      select.value = store.get(meterOf(select)) || select.value;
    });
  }
  document.addEventListener("change", (event) => {
    if (event.target.matches("[data-counter-unit]")) store.set(meterOf(event.target), event.target.value);
    else if (event.target.name === "instrument" && event.target.form) recallUnits(event.target.form);
  });
  document.addEventListener("htmx:load", (event) => recallUnits(event.target));

  /* Files: drop them, and see how much was sent. */
  document.addEventListener("dragover", (event) => {
    const zone = event.target.closest("[data-drop]");
    if (zone) { event.preventDefault(); zone.classList.add("over"); }
  });
  document.addEventListener("dragleave", (event) => event.target.closest("[data-drop]")?.classList.remove("over"));
  document.addEventListener("drop", (event) => {
    const zone = event.target.closest("[data-drop]");
    if (!zone) return;
    event.preventDefault();
    zone.classList.remove("over");
    zone.querySelector("input[type=file]").files = event.dataTransfer.files;
  });
  document.addEventListener("htmx:xhr:progress", (event) => {
    const bar = event.target.querySelector?.("progress"), sent = event.detail;
    if (!bar) return;
    bar.hidden = false;
    bar.value = sent.lengthComputable ? (100 * sent.loaded) / sent.total : 0;
    if (sent.loaded === sent.total) window.say("Reading the file…");
  });

  /* Send a plain form once. */
  document.addEventListener("submit", (event) => {
    const form = event.target;
    if (form.matches("[hx-post]") || form.method !== "post") return;
    if (form.dataset.sent) { event.preventDefault(); return; }
    form.dataset.sent = "yes";
  });
  window.addEventListener("pageshow", () => {
    document.querySelectorAll("form[data-sent]").forEach((form) => delete form.dataset.sent);
  });

  /* Keys. */
  let waitingForPlace = false;
  const typing = (target) => target.closest("input, textarea, select, [contenteditable]");
  const pressed = (event) => event.key === " " && event.target.closest("button, a, summary");
  function go(letter) {
    const place = $(`[data-go="${letter}"]`);
    if (place) place.click();
  }
  function find() {
    const sheet = $("#finder");
    if (!sheet || sheet.open) return;
    sheet.showModal();
    $("#finder-field").select();
  }
  function help() {
    const sheet = $("#keys");
    if (sheet && !sheet.open) sheet.showModal();
  }
  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target) || pressed(event)) return;
    if (store.get("keys-off") === "yes" || $("dialog[open]")) return;
    const key = event.key.toLowerCase();
    if (waitingForPlace) { waitingForPlace = false; go(key); event.preventDefault(); return; }
    if (key === "?") help();
    else if (key === "/") find();
    else if (key === "g") waitingForPlace = true;
    else if (key === "n") $("[data-new]")?.click();
    else if (key === "v") numbers();
    else if ($(`[data-key="${CSS.escape(key)}"]`)) $(`[data-key="${CSS.escape(key)}"]`).click();
    else return;
    event.preventDefault();
  });
  /* In the list of what was found, arrows go from one to the next; Enter in the field opens the first. */
  let opening = false;
  function openFirst() {
    const list = $("#hits");
    // Never what an older, shorter word had found: then it is opened once the list has come.
    opening = !list || list.dataset.find !== $("#finder-field").value;
    if (!opening) list.querySelector("a")?.click();
  }
  document.addEventListener("htmx:afterSettle", (event) => {
    if (opening && event.target.id === "finder-hits") openFirst();
  });
  document.addEventListener("keydown", (event) => {
    const sheet = event.target.closest?.("#finder");
    if (!sheet) return;
    if (event.key !== "Enter") opening = false;
    const links = [...sheet.querySelectorAll("#hits a")], field = $("#finder-field"), at = links.indexOf(event.target);
    if (event.key === "ArrowDown" && links.length) links[Math.min(at + 1, links.length - 1)].focus();
    else if (event.key === "ArrowUp" && at >= 0) (links[at - 1] || field).focus();
    else if (event.key === "Enter" && event.target === field) openFirst();
    else return;
    event.preventDefault();
  });
  /* The chart's numbers: a tab that shows them, a fold that opens, or the table beside it. */
  function numbers() {
    const place = $("[data-numbers]");
    if (!place) return;
    if (place.matches("details")) place.open = true;
    if (place.matches("a")) place.click();
    place.scrollIntoView({ block: "center", behavior: still.matches ? "auto" : "smooth" });
    place.focus({ preventScroll: true });
  }
  document.addEventListener("click", (event) => {
    if (event.target.closest("[data-key-help]")) help();
    if (event.target.closest("[data-key-find]") && !event.ctrlKey && !event.metaKey) { event.preventDefault(); find(); }
    /* After a click on the bench, Space is the bench's again, not the button's. */
    const pushed = event.detail > 0 && event.target.closest(".bench button");
    if (pushed) setTimeout(() => pushed.blur(), 0);
  });

  /* What came: the answer is told, and what is wrong is where one stands. */
  document.addEventListener("htmx:afterSettle", (event) => {
    if (event.target.id === "answer-bar" || event.target.querySelector?.("#answer-bar")) answered();
    const wrong = event.target.querySelector?.("[aria-invalid=true]");
    if (wrong) wrong.focus();
  });
  document.addEventListener("htmx:oobAfterSwap", (event) => {
    if (event.detail.target.id === "answer-bar") answered();
  });

  /* A way to take any drawing along that has no download of its own. */
  const LOOKS = ["fill", "stroke", "stroke-width", "stroke-dasharray", "opacity", "font-size", "font-weight", "font-family"];
  function offerDrawings(within) {
    within.querySelectorAll(".scroll > svg:not([data-offered])").forEach((svg) => {
      svg.dataset.offered = "yes";
      if (svg.closest(".timeline, .fan-box, .bench-strip, .capture-chart") || svg.matches(".timeline")) return;
      const button = document.createElement("button");
      button.type = "button";
      button.className = "quiet save-svg";
      button.textContent = "drawing as SVG";
      button.addEventListener("click", () => saveDrawing(svg));
      svg.parentElement.after(button);
    });
  }
  function saveDrawing(svg) {
    const copy = svg.cloneNode(true);
    const old = [svg, ...svg.querySelectorAll("*")], fresh = [copy, ...copy.querySelectorAll("*")];
    old.forEach((element, index) => {
      const look = getComputedStyle(element);
      for (const name of LOOKS) fresh[index].setAttribute(name, look.getPropertyValue(name));
    });
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([new XMLSerializer().serializeToString(copy)], { type: "image/svg+xml" }));
    link.download = `${(svg.querySelector("title")?.textContent || "drawing").toLowerCase().replace(/[^a-z0-9]+/g, "-")}.svg`;
    link.click();
    URL.revokeObjectURL(link.href);
  }
  document.addEventListener("htmx:afterSettle", (event) => offerDrawings(event.target));

  function answered() {
    sway();
    tellAnswer();
  }
  document.addEventListener("needle:answered", answered);
  document.addEventListener("DOMContentLoaded", () => {
    sway();
    told = headline();
    offerDrawings(document);
    const off = $("#keys-off");
    if (off) {
      off.checked = store.get("keys-off") === "yes";
      off.addEventListener("change", () => store.set("keys-off", off.checked ? "yes" : "no"));
    }
  });
})();
