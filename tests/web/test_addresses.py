"""Every address of the site, found in the URLconf: as nobody, as another user, with foreign ids."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.contrib.auth import SESSION_KEY
from django.core.cache import caches
from django.test import Client, override_settings
from django.urls import URLPattern, URLResolver, get_resolver, reverse
from django.utils import timezone

from tests.web.base import SiteTest, make_job, make_load, make_supply
from web.bench.loggers import add_logger
from web.bench.models import Capture, Session
from web.loads.actions import add_reading
from web.matching.models import Correction
from web.meters.models import Meter
from web.plans.models import Plan, PlanEntry, PlanSource
from web.sheets.exchange import package_of
from web.supplies.models import Output, StartTest, SupplyTest
from web.trials.models import CheckIn, Trial

#: On every record of the other user: no answer may ever show it.
SECRET = "Zanzibar"
#: Addresses that strangers may ask for.
PUBLIC = {
    "common:alive",
    "common:ready",
    "common:metrics",
    "accounts:sign-in",
    "accounts:sign-up",
    "accounts:forgotten",
    "accounts:new-password",
    "demo:look-around",
    "common:glossary",
    "offline:worker",
    "offline:manifest",
    "offline:page",
    "share:reader",
    "share:photo",
    "api:docs",
    "api:openapi",
}
#: Words in addresses that are no numbers.
WORDS = {
    "kind": ("spot", "sun", "load", "output", "capacity"),
    "of": ("loads",),
    "form": ("plan.json",),
    "paper": ("a4",),
    "uidb64": ("MQ",),
    "token": ("a-b",),
}


def addresses(patterns=None, space="", before=()):
    """Name and parameters of every address, with the names of their spaces."""
    for item in get_resolver().url_patterns if patterns is None else patterns:
        converters = {**dict(before), **item.pattern.converters}
        if isinstance(item, URLResolver):
            inner = f"{space}{item.namespace}:" if item.namespace else space
            yield from addresses(item.url_patterns, inner, converters)
        elif isinstance(item, URLPattern):
            yield f"{space}{item.name}", converters


def fill(job, name=SECRET):
    """One record of every kind in a job; the largest key among them, for use as a foreign id."""
    load = make_load(job, name, 90.0, kind="induction-motor")
    add_reading(load, "spot", {"state": "running", "watts": 90.0, "va": 120.0}, note=name)
    supply = make_supply(job, name=name, nominal_wh=5120.0)
    Output.objects.create(supply=supply, name="dc12", max_w=100.0)
    SupplyTest.objects.create(
        supply=supply,
        type="capacity",
        note=name,
        data={"wh": 4700, "hours": 20, "from": 1, "to": 0, "counted": "battery"},
    )
    StartTest.objects.create(supply=supply, load=load, result="held", note=name)
    Correction.objects.create(
        load=load,
        fitted_uf=8,
        watts_without=90,
        va_without=120,
        watts_with=90,
        va_with=100,
        note=name,
    )
    plan = Plan.objects.create(job=job, name=name, supply=supply, is_current=True)
    PlanEntry.objects.create(plan=plan, load=load, windows=[["18:00", "20:00"]])
    PlanSource.objects.create(
        plan=plan, kind="window", name=name, data={"watts": 100.0, "between": [["08:00", "09:00"]]}
    )
    trial = Trial.objects.create(job=job, name=name, supply=supply, believed=supply.to_document())
    CheckIn.objects.create(trial=trial, data={"percent": 90, "note": name}, at=timezone.now())
    Meter.objects.create(owner=job.owner, name=name, kind="plug")
    Session.objects.create(load=load, standin="cold-box", note=name)
    Capture.objects.create(load=load, name=name)
    add_logger(load, name)
    return load


#: Addresses that take a whole job away.
ENDING = ("jobs:delete", "jobs:remove")


@override_settings(MAIL=True)
class EveryAddressTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.theirs = make_job(self.other, f"Job of {SECRET}")
        self.their_load = fill(self.theirs)
        fill(self.job, "Mine")
        self.names = list(addresses())

    def paths(self, name, converters, job):
        """Addresses of that name in a job, around every key that only the other user has."""
        keys = {converter: [] for converter in converters}
        for key in keys:
            if key == "job":
                keys[key] = [job.pk]
            else:
                keys[key] = list(WORDS.get(key, ())) or self.foreign_keys(key)
        width = max((len(values) for values in keys.values()), default=1)
        for number in range(width):
            picked = {key: values[number % len(values)] for key, values in keys.items()}
            try:
                yield reverse(name, kwargs=picked)
            except Exception as error:
                raise AssertionError(f"{name} wants a word in WORDS: {error}") from None

    def foreign_keys(self, key):
        models = {
            "load": self.theirs.loads,
            "plan": self.theirs.plans,
            "supply": self.theirs.supplies,
            "trial": self.theirs.trials,
            "change": self.theirs.changes,
            "reading": self.their_load.readings,
            "session": self.their_load.sessions,
            "capture": self.their_load.captures,
            "logger": self.their_load.loggers,
            "tried": self.their_load.corrections,
            "meter": self.other.meters,
        }
        if key in models:
            return [models[key].order_by("-pk").first().pk]
        supply, plan, trial = (
            getattr(self.theirs, name).first() for name in ("supplies", "plans", "trials")
        )
        return [
            related.first().pk
            for related in (
                supply.outputs,
                supply.tests,
                supply.start_tests,
                plan.sources,
                plan.entries,
                trial.check_ins,
            )
        ]

    def ask(self, client, method, path, body=None):
        # Nobody is kept from trying by the limits on how often.
        caches["default"].clear()
        if method == "get":
            return client.get(path, body)
        return client.post(path, {"client_key": uuid.uuid4(), **(body or {})})

    def test_nobody_gets_in(self):
        stranger = Client()
        for name, converters in self.names:
            if name in PUBLIC:
                continue
            for path in self.paths(name, converters, self.theirs):
                for method in ("get", "post"):
                    with self.subTest(path=path, method=method):
                        answer = self.ask(stranger, method, path)
                        if path.startswith("/api/"):
                            self.assertIn(answer.status_code, (401, 405))
                            continue
                        self.assertEqual(answer.status_code, 302)
                        self.assertTrue(answer["Location"].startswith("/sign-in/"))

    def test_another_users_job_is_not_there(self):
        before = self.stored()
        for name, converters in self.names:
            if "job" not in converters:
                continue
            for path in self.paths(name, converters, self.theirs):
                for method in ("get", "post"):
                    with self.subTest(path=path, method=method):
                        answer = self.ask(self.client, method, path)
                        self.assertIn(answer.status_code, (404, 405))
        self.assertEqual(self.stored(), before)

    def test_foreign_ids_in_path_query_and_body_show_and_change_nothing(self):
        before = self.stored()
        wanted = {
            "load": self.their_load.pk,
            "supply": self.theirs.supplies.first().pk,
            "plan": self.theirs.plans.first().pk,
            "item": self.their_load.pk,
            "ref": self.their_load.pk,
            "session": self.their_load.sessions.first().pk,
            "with": f"plan-{self.theirs.plans.first().pk}",
            "on": self.theirs.supplies.first().pk,
            "loads": self.their_load.pk,
            "next": f"/jobs/{self.theirs.pk}/survey/",
            "name": "X",
            "kind": "led",
            "priority": "must",
            "result": "held",
            "times": "1",
        }
        # What takes the own job away comes last, so that all others meet one that is there.
        for name, converters in sorted(self.names, key=lambda named: named[0] in ENDING):
            if name == ENDING[0]:
                self.assertTrue(self.job.loads.live().exists())
            for path in self.paths(name, converters, self.job):
                if name in ("accounts:delete", "accounts:sign-out"):
                    continue
                for method in ("get", "post"):
                    with self.subTest(path=path, method=method):
                        answer = self.ask(self.client, method, path, wanted)
                        self.assertLess(answer.status_code, 500)
                        self.assertNotIn(SECRET, answer.content.decode(errors="replace"))
                        if self.client.session.get(SESSION_KEY) != str(self.user.pk):
                            self.client.force_login(self.user)
        self.assertEqual(self.stored(), before)
        self.theirs.refresh_from_db()
        self.assertEqual(self.theirs.owner, self.other)

    def stored(self):
        """All that the other user has, as a package tells it."""
        return {name: table.rows for name, table in package_of(self.theirs).tables.items()}

    def test_the_walk_sees_the_whole_site(self):
        self.assertGreater(len(self.names), 100)
        self.assertIn("plans:move-block", dict(self.names))
        self.assertEqual(set(PUBLIC) - set(dict(self.names)), set())
        self.assertTrue(settings.ROOT_URLCONF)


class OddInputTest(SiteTest):
    def test_numbers_that_are_none(self):
        fill(self.job)
        for query in ("item=²", f"item={'9' * 5000}", "item=-1", "plan=²", f"plan={'1' * 400}"):
            for name in (
                "trials:compare",
                "matching:starts",
                "matching:compare",
                "sheets:sheet",
                "trials:start",
            ):
                with self.subTest(query=query[:20], page=name):
                    answer = self.client.get(f"{self.url(name)}?{query}")
                    self.assertEqual(answer.status_code, 414 if len(query) > 2000 else 200)

    def test_ticked_and_chosen_records_that_cannot_be(self):
        for name, field in (
            ("trials:start", "loads"),
            ("trials:past", "loads"),
            ("trials:start", "supply"),
            ("trials:start", "plan"),
            ("matching:record-start", "ran"),
            ("matching:record-start", "load"),
            ("rounds:index", "plan"),
        ):
            for key in ("9" * 400, "9" * 18, "-1", "²", "1e3", "nan", "\x00", "999"):
                with self.subTest(name=name, field=field, key=key[:20]):
                    answer = self.client.post(self.url(name), {field: [key]})
                    self.assertEqual(answer.status_code, 422)

    def test_undo_goes_back_to_a_page_of_this_site_only(self):
        survey = self.url("loads:survey")
        for wanted, goes in (
            ("foo", survey),
            ("jobs:undo", survey),
            ("//evil.example/", survey),
            ("/\\evil.example", survey),
            ("http://[", survey),
            ("/nowhere/", survey),
            ("/jobs/\n/", survey),
            ("javascript:alert(1)", survey),
            ("/²/", survey),
            (self.url("plans:current"), self.url("plans:current")),
            (f"{survey}?sort=mean&q=box", f"{survey}?sort=mean&q=box"),
        ):
            make_load(self.job, f"Load {wanted[:9]!r}", None)
            change = self.job.changes.first().pk
            with self.subTest(wanted=wanted):
                answer = self.client.post(self.url("jobs:undo", change), {"next": wanted})
                self.assertRedirects(answer, goes, fetch_redirect_response=False)

    def test_a_key_of_another_users_form_makes_a_record_of_ones_own(self):
        theirs = make_job(self.other, "Theirs")
        data = {"name": "Mine too", "mains": "230-50", "client_key": theirs.client_key}
        self.assertEqual(self.client.post("/jobs/", data).status_code, 302)
        self.assertEqual(self.user.jobs.filter(name="Mine too").count(), 1)
        self.assertEqual(self.other.jobs.count(), 1)
