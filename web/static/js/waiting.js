/* Requests on their way: what is said meanwhile, and that nothing typed, sent or answered is lost. */
"use strict";

(() => {
  /* What a page asks for without anybody's doing. */
  const byItself = (element) => /^(load|every)/.test(element.getAttribute("hx-trigger") || "");

  /* A word when the server takes long, refuses, or cannot be reached. Waiting is a thin line at the
     top, which covers nothing; what went wrong stays until a person acts again. */
  const WAITING = "Working…";
  const REFUSED = {
    409: "This was changed in another window just now: nothing was stored over that. Reload the page and do it again.",
    503: "Many are saving just now: that was not stored yet. Send it again in a few seconds.",
  };
  const refusedWords = (status) => REFUSED[status] || "The site refused that. Reload the page and try again.";
  const line = () => document.getElementById("working");
  function say(words) {
    if (!line()) return;
    line().textContent = words;
    line().classList.toggle("is-waiting", words === WAITING);
  }
  Object.assign(window, { say, WAITING, refusedWords });
  let slow;
  document.addEventListener("htmx:beforeRequest", ({ detail }) => {
    if (!byItself(detail.elt)) say("");
    clearTimeout(slow);
    slow = setTimeout(() => { if (!line()?.textContent) say(WAITING); }, 300);
  });
  document.addEventListener("htmx:afterRequest", ({ detail }) => {
    clearTimeout(slow);
    if (!byItself(detail.requestConfig.elt) || line()?.textContent === WAITING) say("");
  });
  document.addEventListener("htmx:sendError", () => say("The site cannot be reached. What you typed is still here: try again."));
  document.addEventListener("htmx:responseError", ({ detail }) => say(refusedWords(detail.xhr.status)));

  /* What a person's own requests are to fill: nothing that comes by itself takes it away, since
     their answers would find no place. That is asked for again afterwards. */
  const toFill = new Map(), putOff = new Map();
  document.addEventListener("htmx:beforeRequest", ({ detail: { elt, xhr, target } }) => {
    if (byItself(elt)) return;
    toFill.set(xhr, target);
    let lost = false;
    xhr.addEventListener("readystatechange", () => { if (xhr.readyState === 4) lost = !target.isConnected; });
    xhr.addEventListener("loadend", () => {
      toFill.delete(xhr);
      if (lost && xhr.status) fillAgain(target.id);
      askAgain();
    });
  });
  /* Another answer took the place first: it is filled from the page as it stands now. */
  function fillAgain(id) {
    if (id && document.getElementById(id)) htmx.ajax("get", location.pathname + location.search, { target: `#${id}`, swap: "outerHTML", select: `#${id}` });
  }
  function askAgain() {
    if (toFill.size) return;
    const waiting = [...putOff].filter(([elt]) => elt.isConnected);
    putOff.clear();
    for (const [elt, target] of waiting) htmx.ajax("get", elt.getAttribute("hx-get"), { source: elt, target });
  }

  /* Nor does it take away what was typed meanwhile, or open or close a fold. */
  const typed = new WeakMap();
  const fields = (within) => [...within.querySelectorAll("input:not([type=hidden]), select, textarea")].filter((field) => field.form && field.name);
  const marks = (field) => field.type === "checkbox" || field.type === "radio";
  const changed = (field) => marks(field) ? field.checked !== field.defaultChecked
    : field.matches("select") ? ![...field.options].every((option) => option.selected === option.defaultSelected)
    : field.value !== field.defaultValue;
  const sends = (field) => field.form.getAttribute("action");
  const same = (field, other) => field.name === other.name && sends(field) === sends(other)
    && (!marks(field) || field.value === other.value);
  /* Folds by their words; of several with the same words by their order too. */
  function folds(within) {
    const byWords = new Map();
    for (const fold of within.querySelectorAll("details")) {
      let words = fold.querySelector("summary")?.textContent.trim();
      while (byWords.has(words)) words += "+";
      byWords.set(words, fold);
    }
    return [...byWords];
  }
  const choose = (select, values) => {
    for (const option of select.options) option.selected = values.includes(option.value);
  };
  document.addEventListener("htmx:beforeSwap", ({ detail }) => {
    const { elt } = detail.requestConfig, { target, xhr } = detail;
    if (!byItself(elt)) return;
    const replaced = (place) => target.contains(place) && (place !== target || elt.matches("[hx-swap=outerHTML]"));
    if ([...toFill.values()].some(replaced)) {
      detail.shouldSwap = false;
      /* What comes every second comes again without being asked. */
      if (elt.matches("[hx-get][hx-trigger^=load]")) putOff.set(elt, target);
    }
    typed.set(xhr, {
      old: fields(target).filter(changed), opened: new Map(folds(target).map(([words, fold]) => [words, fold.open])),
      focused: document.activeElement?.id, region: target.id,
    });
  });
  document.addEventListener("htmx:afterSwap", ({ detail }) => {
    if (!typed.has(detail.xhr)) return;
    const { old, opened, focused, region } = typed.get(detail.xhr);
    typed.delete(detail.xhr);
    const now = document.getElementById(region) || document;
    for (const [words, fold] of folds(now)) fold.open = opened.get(words) ?? fold.open;
    for (const field of old.length ? fields(now) : []) {
      const before = old.find((other) => same(field, other));
      if (!before) continue;
      if (marks(field)) field.checked = before.checked;
      else if (field.type === "file") field.files = before.files;
      else if (field.matches("select")) choose(field, [...before.selectedOptions].map((option) => option.value));
      else field.value = before.value;
    }
    /* In a fold that was closed for a moment, focus was lost. */
    if (focused && document.activeElement === document.body) document.getElementById(focused)?.focus({ preventScroll: true });
  });
})();
