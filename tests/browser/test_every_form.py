"""Every form of the site, filled at typing speed while all answers come late.

What would be sent is compared with what was typed. The forms are listed from the code, so that a
new one is either on a page here or named with why not.
"""

from unittest import mock

from django import forms
from django.contrib.auth.models import User
from django.forms.boundfield import BoundField
from django.urls import reverse
from playwright.sync_api import expect

from tests.browser.base import BrowserTest
from tests.browser.test_typing import late
from web.bench.models import Capture
from web.demo.round import begin_drills, clinic_round
from web.jobs.models import Member
from web.loads.reading_forms import FORMS
from web.meters.models import Meter
from web.share.actions import add_link
from web.share.models import ShareLink
from web.watch.actions import begin_watch, power_is_back

#: Forms that no page shows with fields to type in, each with why.
WITHOUT_TYPING = {
    "PackageForm": "a file only",
    "IntervalFileForm": "a file only",
    "PublishingForm": "a tick only, where a broker is set up",
    "DocumentForm": "a file only",
    "DrillFileForm": "a file only",
    "DoingForm": "its fields are written in a drill's bench, which is typed into",
    "PutOffForm": "its field is written in the survey, which is typed into",
    "MailForm": "one field, only where mail is set up",
    "CodeForm": "one field, which the demo's account has not",
    "PasswordForm": "one field, which the demo's account has not",
}

#: Fields of all posted forms in the work area that can be typed in, marked with their numbers.
MARK = """() => {
  for (const fold of document.querySelectorAll("main details")) fold.open = true;
  const kinds = ["text", "number", "search", "email", "password", ""];
  const fields = [...document.querySelectorAll("main form input, main form textarea")];
  const found = fields.filter((field) =>
    field.form.method === "post" && field.name && !field.disabled && !field.readOnly
    && (field.matches("textarea") || kinds.includes(field.getAttribute("type") || ""))
    && field.offsetParent !== null && !field.list);
  found.forEach((field, number) => { field.dataset.typed = number; });
  return found.length;
}"""
#: Selects that fetch something: each is set to another choice.
CHOOSE = """() => {
  for (const select of document.querySelectorAll("main form[method=post] select[hx-get]")) {
    select.selectedIndex = select.selectedIndex === 1 ? 2 : 1;
    select.dispatchEvent(new Event("change", { bubbles: true }));
  }
}"""
#: The name of a field that a person goes to; null where a choice took it away with its words.
GO_TO = """(number) => {
  const field = document.querySelector(`[data-typed="${number}"]`);
  field?.focus();
  field?.select();
  return field?.name;
}"""
#: Whether the echo of each typed figure has arrived, however late.
SAID = """() => [...document.querySelectorAll("main .quantity[data-typed]")].every((field) =>
  !field.value || !field.isConnected ||
  field.parentElement.querySelector(".echo")?.innerHTML.trim())"""
#: What would be sent now, of each name every value.
SENT = """() => [...document.querySelectorAll("main form")].filter((form) => form.method === "post")
  .flatMap((form) => [...new FormData(form)].map(([name, value]) => `${name}=${value}`))"""


class EveryFormTest(BrowserTest):
    def pages(self):
        clinic = self.clinic()
        load, supply = clinic.loads.get(name="Suction pump"), clinic.supplies.first()
        plan = clinic.plans.get(name="Storm night")
        trial = clinic.trials.get(name="Storm night rehearsal")
        capture = Capture.objects.filter(load__job=clinic).first()
        meter = Meter.objects.filter(owner=clinic.owner).first()
        clinic_round(clinic, plan)
        begin_drills(clinic.owner)
        Member.objects.create(job=clinic, user=User.objects.create_user("marlow"))
        yield ("loads:load", load.pk)
        yield from (
            ("supplies:test", supply.pk, kind)
            for kind in ("idle", "efficiency", "capacity", "route", "together")
        )
        yield from (("plans:add-source", plan.pk, kind) for kind in ("sun", "window", "battery"))
        yield from (
            ("loads:add",),
            ("loads:survey",),
            ("supplies:add",),
            ("supplies:add-part", supply.pk, "output"),
            ("supplies:add-part", supply.pk, "input"),
            ("plans:edit", plan.pk),
            ("plans:entry", plan.pk, load.pk),
            ("plans:current",),
            ("matching:record-start",),
            ("matching:cord", load.pk),
            ("matching:correction", load.pk),
            ("matching:record-correction", load.pk),
            ("trials:start",),
            ("trials:past",),
            ("trials:trial", trial.pk),
            ("rounds:index",),
            ("jobs:edit",),
            ("jobs:delete",),
            ("bench:index", f"?load={load.pk}"),
            ("loads:walk",),
            ("loads:combined",),
            ("share:links",),
            ("jobs:people",),
            ("api:programs",),
            ("outward:index",),
            ("bench:loggers",),
            ("bench:upload", load.pk),
            ("bench:capture", capture.pk),
        )
        over = begin_watch(clinic)
        power_is_back(over, {"percent": 95}, None)
        yield ("trials:taught", over.pk)
        begin_watch(clinic)
        yield from (("watch:watch",), ("watch:change",))
        outside = clinic.owner.drill_runs.first()
        yield from (
            ("jobs:list", None),
            ("meters:add", None),
            ("meters:compare", None, meter.pk),
            ("accounts:units", None),
            ("practice:run", None, outside.pk),
        )

    def visit(self, page, name, *args):
        query = next((arg for arg in args if str(arg).startswith("?")), "")
        args = [arg for arg in args if arg is not None and arg != query]
        outside = name.split(":")[0] in ("meters", "accounts", "practice") or name == "jobs:list"
        base = self.url(name, *([] if outside else [self.clinic().pk]), *args)
        page.goto(base + query)

    def test_what_is_typed_is_what_is_sent(self):
        page = self.signed_in()
        # Some answers come between two fields, and some after the last.
        page.add_init_script(late(120))
        seen, fields, pages = set(), 0, 0
        as_widget = BoundField.as_widget

        def watched(field, *args, **kwargs):
            seen.add(type(field.form).__name__)
            return as_widget(field, *args, **kwargs)

        with mock.patch.object(BoundField, "as_widget", watched):
            for name, *args in self.pages():
                with self.subTest(page=name, args=args):
                    self.visit(page, name, *args)
                    page.evaluate(CHOOSE)
                    fields += self.fill(page)
                    pages += 1
                    for kind in FORMS if name == "loads:load" else ():
                        # Another kind of reading comes as a fragment; some lie in a menu.
                        other = page.locator(f'#reading-form a[hx-get$="/readings/{kind}/"]')
                        other.first.dispatch_event("click")
                        self.settled(page)
                        fields += self.fill(page)
            stranger = self.open()
            stranger.goto(self.url("accounts:sign-up"))
            fields += self.fill(stranger)
            for word in ("heron", ""):
                link = ShareLink(job=self.clinic(), shows="list", name="Ada")
                _, token = add_link(link, word=word)
                stranger.goto(self.live_server_url + reverse("share:reader", args=[token]))
                fields += self.fill(stranger)
        print(f"\ntyped into {fields} fields on {pages} pages")
        missing = {form.__name__ for form in forms_of_the_site()} - seen - set(WITHOUT_TYPING)
        self.assertEqual(sorted(missing), [])

    def settled(self, page):
        expect(page.locator(".htmx-request")).to_have_count(0)

    def fill(self, page):
        """Type into every field; what would be sent afterwards holds all of it."""
        count = page.evaluate(MARK)
        typed = []
        for number in range(count):
            name, text = page.evaluate(GO_TO, number), f"{7 + number}{'.,'[number % 2]}5"
            if not name:
                continue
            page.keyboard.type(text, delay=2)
            typed.append(f"{name}={text}")
        page.wait_for_function(SAID)
        self.settled(page)
        sent = page.evaluate(SENT)
        self.assertEqual([pair for pair in typed if pair not in sent], [])
        return len(typed)


def forms_of_the_site():
    """Every form class of the site that is no base of another."""
    found, waiting = [], [forms.BaseForm]
    while waiting:
        form = waiting.pop()
        waiting += form.__subclasses__()
        if form.__module__.startswith("web.") and not form.__subclasses__():
            found.append(form)
    return found
