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
    503: "The site is busy: that was not stored yet. Send it again in a few seconds.",
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

  /* Nor does it take away what was typed meanwhile, or open or close a fold. What a person sent
     leaves alone what was typed after it was sent. */
  const typed = new WeakMap(), asSent = new WeakMap();
  const valueOf = (field) => marks(field) ? String(field.checked)
    : field.matches("select") ? [...field.selectedOptions].map((option) => option.value).join("\n")
    : field.value;
  document.addEventListener("htmx:beforeRequest", ({ detail: { xhr } }) => {
    asSent.set(xhr, new Map(fields(document).map((field) => [field, valueOf(field)])));
  });
  const since = (xhr) => (field) => {
    const before = asSent.get(xhr)?.get(field);
    return before !== undefined && before !== valueOf(field);
  };

  /* A form that is sent again while it is on its way waits for its turn, and is empty for what
     comes next: what was typed into it is a thing of its own, and goes once the answer is there. */
  const onItsWay = new WeakSet(), queues = new Map();
  document.addEventListener("htmx:beforeRequest", ({ detail: { elt, xhr } }) => {
    if (!elt.matches("form")) return;
    onItsWay.add(elt);
    xhr.addEventListener("loadend", () => onItsWay.delete(elt));
  });
  const taken = (form) => {
    const values = fields(form).filter(changed).map((field) => [field, valueOf(field)]);
    const found = values.map(([field, value]) => ({ name: field.name, of: field.value, value }));
    form.reset();
    return found;
  };
  function put(form, found) {
    for (const { name, of, value } of found) {
      const field = fields(form).find((other) => other.name === name && (!marks(other) || other.value === of));
      if (!field) continue;
      if (marks(field)) field.checked = value === "true";
      else if (field.matches("select")) choose(field, value.split("\n"));
      else field.value = value;
    }
  }
  document.addEventListener("submit", (event) => {
    const form = event.target;
    /* What is sent by each change is sent already: Enter made one. */
    if (form.matches("[data-on-change]")) event.preventDefault();
    if (form.matches("[data-on-change]") || !onItsWay.has(form) || !form.id) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    const found = taken(form);
    if (found.length) queues.set(form.id, [...(queues.get(form.id) || []), found]);
  }, true);
  document.addEventListener("htmx:afterSettle", () => {
    for (const [id, queue] of queues) {
      const form = document.getElementById(id);
      if (!form || !queue.length || onItsWay.has(form)) continue;
      const next = taken(form);
      put(form, queue.shift());
      form.requestSubmit();
      form.reset();
      put(form, next);
    }
  });
  const fields = (within) => [...within.querySelectorAll("input:not([type=hidden]), select, textarea")].filter((field) => field.form && field.name);
  const marks = (field) => field.type === "checkbox" || field.type === "radio";
  const changed = (field) => marks(field) ? field.checked !== field.defaultChecked
    : field.matches("select") ? ![...field.options].every((option) => option.selected === option.defaultSelected)
    : field.value !== field.defaultValue;
  const sends = (field) => field.form.getAttribute("action");
  /* Of a field that was, what is found of it once it is taken out of its form. */
  const asItWas = (field) => ({ field, sends: sends(field) });
  const same = (field, other) => field.name === other.field.name && sends(field) === other.sends
    && (!marks(field) || field.value === other.field.value);
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
    const keep = (old) => typed.set(xhr, {
      old: old.map(asItWas), opened: new Map(folds(target).map(([words, fold]) => [words, fold.open])),
      focused: document.activeElement?.id, region: target.id, asks: elt,
    });
    if (!byItself(elt)) {
      const meanwhile = fields(target).filter(since(xhr));
      if (meanwhile.length) keep(meanwhile);
      return;
    }
    const replaced = (place) => target.contains(place) && (place !== target || elt.matches("[hx-swap=outerHTML]"));
    if ([...toFill.values()].some(replaced)) {
      detail.shouldSwap = false;
      /* What comes every second comes again without being asked. */
      if (elt.matches("[hx-get][hx-trigger^=load]")) putOff.set(elt, target);
    }
    keep(fields(target).filter(changed));
  });
  document.addEventListener("htmx:afterSwap", ({ detail }) => {
    if (!typed.has(detail.xhr)) return;
    const { old, opened, focused, region, asks } = typed.get(detail.xhr);
    typed.delete(detail.xhr);
    const now = document.getElementById(region) || document;
    /* Fields that another choice leaves out stay where something was typed into them. */
    if (asks.matches("select")) {
      for (const { field: before } of old) {
        const row = before.closest(".field"), place = asks.form?.querySelector(".more > .fields");
        if (row && place && valueOf(before) && !fields(asks.form).some((field) => field.name === before.name)) place.append(row);
      }
    }
    for (const [words, fold] of folds(now)) fold.open = opened.get(words) ?? fold.open;
    for (const field of old.length ? fields(now) : []) {
      const before = old.find((other) => same(field, other))?.field;
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
