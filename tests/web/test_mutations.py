"""What is sent is changed at random: a sentence or a success, never a fault, whatever comes.

A slice of ``make harden``, which asks for many more by ``STEADY_MUTATIONS``.
"""

from __future__ import annotations

import csv
import io
import json
import os
import random
import re
import resource
import time
import uuid
import zipfile
from html.parser import HTMLParser

from django.core.cache import caches
from django.db import transaction
from django.urls import reverse

from needle.document import DocumentError
from tests.web.base import SiteTest, import_job
from tests.web.test_addresses import addresses, fill
from web.sheets.documents import load_document
from web.sheets.exchange import export_job

#: How many in all: documents are the dearest, as each that is understood is answered and opened.
MUTATIONS = int(os.environ.get("STEADY_MUTATIONS", "60"))
POSTS, PACKAGES = int(0.45 * MUTATIONS), int(0.5 * MUTATIONS)
DOCUMENTS = MUTATIONS - POSTS - PACKAGES
#: In place of what was there.
ODD = (
    "",
    "0",
    "-1",
    "1e9",
    "1e999",
    "nan",
    "inf",
    "-inf",
    "5 kW",
    "100 %",
    "1/0",
    "@",
    ":",
    "12:99",
    "1h30",
    "\x00",
    "<b>",
    "٣",
    "²",
    "=1+1",
    "[]",
    "{}",
    "null",
    "true",
    "[[]]",
    '{"a": 1}',
    "[1, 2]",
    '[["23:00", "06:00"]]',
    '["20:15"]',
    "2027-02-09T18:00",
    "9" * 400,
    "1" + "0" * 400,
    "x" * 5000,
    "\r",
    "\r\n",
    "\ufeff",
    "'",
    '"',
    ",",
    ";",
    "../x",
    "0001-01-01T00:00:00",
    "9999-12-31T23:59:59",
    "ac",
    "lfp",
    "must",
    "00000000-0000-0000-0000-000000000000",
)
#: What may well be meant.
USUAL = (
    "7",
    "0.5",
    "12 V",
    "90 W",
    "1.2 kWh",
    "2 h",
    "45 min",
    "20",
    "08:30",
    "4 °C",
    "Box",
    "99",
    "22:00-06:00",
    "2026-11-20T06:15",
    "24 Ah @ 3.6 V",
    "a, b",
    "1e-9",
    "3000000",
)
#: Addresses after which nothing is left to change.
ENDING = ("accounts:delete", "accounts:sign-out", "accounts:password")
ODD_JSON = (None, True, -1, 0, 1e308, 10**400, "", "x", [], {}, [[]], [1], {"a": 1}, "23:00")
FIELD = re.compile(r'<(?:input|select|textarea)[^>]*? name="([^"]+)"')


def short(data):
    """What was sent, long texts cut."""
    return {field: value[:40] for field, value in data.items()}


def changed_json(rng, value):
    """A document with one of its values replaced, taken out or put in twice."""
    if isinstance(value, dict) and value and rng.random() < 0.9:
        key = rng.choice(list(value))
        if rng.random() < 0.1:
            return {name: item for name, item in value.items() if name != key}
        return {**value, key: changed_json(rng, value[key])}
    if isinstance(value, list) and value and rng.random() < 0.9:
        place = rng.randrange(len(value))
        if rng.random() < 0.1:
            return [*value, value[place]]
        return [*value[:place], changed_json(rng, value[place]), *value[place + 1 :]]
    return rng.choice(ODD_JSON)


def changed_text(rng, text):
    """A table with some of its cells replaced, a row taken out, or bytes flipped."""
    rows = list(csv.reader(io.StringIO(text, newline="")))
    if not rows or rng.random() < 0.1:
        place = rng.randrange(len(text) + 1)
        return text[:place] + rng.choice(ODD) + text[place + rng.randrange(3) :]
    for _ in range(rng.randint(1, 3)):
        row = rng.choice(rows[1:] or rows)
        if row:
            row[rng.randrange(len(row))] = rng.choice(ODD)
    out = io.StringIO()
    csv.writer(out, lineterminator="\r\n").writerows(rows)
    return out.getvalue()


class Forms(HTMLParser):
    """Forms of a page as a browser would send them: address, values by field, choices by field."""

    def __init__(self, page, path):
        super().__init__()
        self.path, self.forms, self.select, self.text = path, [], "", ""
        self.feed(page)

    def handle_starttag(self, tag, attributes):
        given = dict(attributes)
        name = given.get("name") or ""
        if tag == "form" and (given.get("method") or "get").lower() == "post":
            self.forms.append((given.get("action") or self.path, {}, {}))
        elif self.forms and tag in ("input", "select", "textarea") and name:
            _, values, choices = self.forms[-1]
            self.select = name if tag == "select" else ""
            self.text = name if tag == "textarea" else ""
            if tag != "input" or given.get("type") not in ("checkbox", "radio"):
                values.setdefault(name, given.get("value") or "")
            else:
                choices.setdefault(name, []).append(given.get("value") or "on")
                if "checked" in given:
                    values[name] = given.get("value") or "on"
        elif self.forms and tag == "option" and self.select:
            _, values, choices = self.forms[-1]
            choices.setdefault(self.select, []).append(given.get("value") or "")
            if "selected" in given:
                values[self.select] = given.get("value") or ""

    def handle_endtag(self, tag):
        if tag == "select" and self.select:
            _, values, choices = self.forms[-1]
            values[self.select] = values[self.select] or next(
                iter(choices.get(self.select, ())), ""
            )
        if tag in ("select", "textarea"):
            self.select = self.text = ""

    def handle_data(self, data):
        if self.text:
            self.forms[-1][1][self.text] = data.strip()


class MutationTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.load = fill(self.job, "Mine")
        self.client.raise_request_exception = False
        self.rng = random.Random(os.environ.get("STEADY_SEED", "7"))
        self.slowest: tuple[float, str] = (0.0, "")

    def try_many(self, count, attempt):
        """So many attempts, each taken back; what took longest and what memory grew by is told."""
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        for _ in range(count):
            began = time.process_time()
            caches["default"].clear()
            with transaction.atomic():
                what = attempt()
                transaction.set_rollback(True)
            self.slowest = max(self.slowest, (time.process_time() - began, what[:200]))
        grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
        if MUTATIONS > 1000:
            seconds, what = self.slowest
            print(
                f"{count} x {self.id().rsplit('.', 1)[1]}: slowest {seconds:.2f} s of the "
                f"processor ({what}), memory +{grown:.0f} MB",
                flush=True,
            )

    def assert_stands(self, answer, what):
        self.assertLess(answer.status_code, 500, what)

    def assert_opens(self, job, what):
        """Every main page of a job answers."""
        for name in (
            "loads:survey",
            "supplies:list",
            "plans:current",
            "trials:index",
            "sheets:sheet",
            "matching:starts",
            "bench:index",
            "jobs:edit",
        ):
            self.assert_stands(self.client.get(reverse(name, args=[job.pk])), f"{what}: {name}")

    def pages(self):
        """Every address that the own records have, but for those that end the account."""
        own = {
            "job": self.job.pk,
            "load": self.load.pk,
            "plan": self.job.plans.first().pk,
            "supply": self.job.supplies.first().pk,
            "trial": self.job.trials.first().pk,
            "reading": self.load.readings.last().pk,
            "capture": self.load.captures.first().pk,
            "session": self.load.sessions.first().pk,
            "source": self.job.plans.first().sources.get().pk,
            "kind": "spot",
            "of": "loads",
            "key": self.load.pk,
            "index": 0,
            "paper": "a4",
            "test": self.job.supplies.first().tests.get().pk,
            "form": "plan.json",
            "meter": self.user.meters.first().pk,
            "entry": self.job.plans.first().entries.first().pk,
            "check_in": self.job.trials.first().check_ins.first().pk,
        }
        for name, converters in addresses():
            if set(converters) <= set(own) and name not in ENDING:
                path = reverse(name, kwargs={key: own[key] for key in converters})
                yield path, self.client.get(path).content.decode(errors="replace")

    def test_posts(self):
        targets = []
        for path, page in self.pages():
            fields = FIELD.findall(page)
            targets.append((path, sorted({*fields, "by_min", "edge", "to", "q", "sort"})))

        def attempt():
            path, fields = self.rng.choice(targets)
            picked = self.rng.sample(fields, self.rng.randint(0, len(fields)))
            data = {field: self.rng.choice(ODD) for field in picked}
            what = f"{path} {short(data)}"
            self.assert_stands(self.client.post(path, data), what)
            self.assert_stands(self.client.get(path, data), what)
            return what

        self.try_many(POSTS // 2, attempt)

    def test_forms_of_which_a_little_is_changed(self):
        """What is taken leaves a job whose pages open."""
        targets = [
            form
            for path, page in self.pages()
            for form in Forms(page, path).forms
            if form[1] and not any(end in form[0] for end in ("delete", "remove", "sign-"))
        ]

        def attempt():
            path, values, choices = self.rng.choice(targets)
            data, fields = dict(values), sorted({*values, *choices})
            for field in self.rng.sample(fields, min(len(fields), self.rng.choice((0, 1, 1, 2)))):
                data[field] = self.rng.choice(
                    [*choices.get(field, ()), self.rng.choice(ODD + USUAL)]
                )
            what = f"{path} {short(data)}"
            answer = self.client.post(path, data)
            self.assert_stands(answer, what)
            if answer.status_code == 302:
                self.assert_stands(self.client.get(answer["Location"]), what)
                self.assert_opens(self.job, what)
            return what

        self.try_many(POSTS - POSTS // 2, attempt)

    def test_packages(self):
        content = export_job(self.job)
        with zipfile.ZipFile(io.BytesIO(content)) as folder:
            files = {name: folder.read(name).decode() for name in folder.namelist()}

        def attempt():
            name = self.rng.choice(list(files))
            if name.endswith(".json"):
                text = json.dumps(changed_json(self.rng, json.loads(files[name])))
            else:
                text = changed_text(self.rng, files[name])
            out = io.BytesIO()
            with zipfile.ZipFile(out, "w") as folder:
                for path, original in files.items():
                    folder.writestr(path, text if path == name else original)
            try:
                job = import_job(out.getvalue(), self.user)
            except DocumentError:
                return name
            lines = zip(files[name].splitlines(), text.splitlines(), strict=False)
            differs = next((new for old, new in lines if old != new), "")
            self.assert_opens(job, f"{name}: {differs[:300]}")
            return name

        self.try_many(PACKAGES, attempt)

    def test_documents_captures_and_samples(self):
        self.load.job = self.job
        documents = {
            "load": load_document(self.load),
            "plan": json.loads(
                self.client.get(
                    self.url("plans:download", self.job.plans.first().pk, "plan.json")
                ).content
            ),
        }
        table = "time,watts,volts\n" + "".join(
            f"{n},{90 * (n % 60 > 40)},230\n" for n in range(200)
        )

        def attempt():
            kind = self.rng.choice(("load", "plan", "capture"))
            if kind == "capture":
                text = changed_text(self.rng, table)
                path = self.url("bench:upload", self.load.pk)
            else:
                changed = changed_json(self.rng, documents[kind])
                if isinstance(changed, dict) and kind == "load":
                    changed = {
                        "name": uuid.uuid4().hex,
                        **{k: v for k, v in changed.items() if k != "name"},
                    }
                text, path = json.dumps(changed), self.url("exchange:document", kind)
            file = io.BytesIO(text.encode(errors="replace"))
            file.name = "one.csv" if kind == "capture" else "one.json"
            what = f"{kind}: {text[:3000]}"
            answer = self.client.post(path, {"file": file})
            self.assert_stands(answer, what)
            if answer.status_code == 302:
                self.assert_stands(self.client.get(answer["Location"]), what)
                self.assert_opens(self.job, what)
            return what

        self.try_many(DOCUMENTS, attempt)
