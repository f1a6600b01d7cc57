"""The interface for programs: who may what, the same documents as the commands, and its shape."""

from __future__ import annotations

import contextlib
import io
import json
import tempfile
from pathlib import Path
from unittest import mock

import jsonschema
from django.core.cache import caches
from django.test import Client
from django.urls import reverse
from drf_spectacular.generators import SchemaGenerator
from drf_spectacular.validation import validate_schema

from needle.__main__ import main
from tests.web.base import SiteTest, clear_caches, make_job, make_load, make_supply
from tests.web.test_addresses import SECRET, addresses, fill
from web.api import authentication
from web.api.actions import add_token, revoke
from web.api.models import ApiToken
from web.api.openapi import schemas
from web.loads.models import Reading
from web.plans.draft import document as plan_document
from web.plans.outcomes import answer_of, current_plan
from web.sheets.exchange import package_of
from web.trials.models import CheckIn, Trial
from web.watch.actions import begin_watch

SPOT = {"type": "spot", "state": "running", "watts": 92.4, "volts": 231.2, "instrument": "plug"}
ENERGY = {"type": "energy", "wh": 710, "hours": 21.5, "at": "2026-11-02T09:00:00+00:00"}
CSV = "time,watts\n" + "".join(
    f"{second},{90 if second % 60 < 30 else 2}\n" for second in range(600)
)


class Program:
    """A client with a token of a job."""

    def __init__(self, job, adds=True, name="Script"):
        self.token, self.text = add_token(ApiToken(job=job, name=name, adds=adds))
        self.client = Client(headers={"Authorization": f"Bearer {self.text}"})

    def get(self, path, **headers):
        return self.client.get(f"/api/v1/{path}", headers=headers)

    def post(self, path, content, key="", content_type="application/json"):
        headers = {"Idempotency-Key": key} if key else {}
        return self.client.post(f"/api/v1/{path}", content, content_type, headers=headers)


class ApiTest(SiteTest):
    def setUp(self):
        super().setUp()
        clear_caches()
        self.program = Program(self.job)


class ReadingTest(ApiTest):
    """Documents that are read are those of the commands."""

    def setUp(self):
        super().setUp()
        self.load = fill(self.job, "Mine")
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def command(self, verb, content):
        file = self.folder / f"{verb}.json"
        file.write_text(json.dumps(content))
        told = io.StringIO()
        with contextlib.redirect_stdout(told):
            self.assertEqual(main([verb, str(file)]), 0)
        return json.loads(told.getvalue())

    def test_a_profile_is_what_the_command_prints(self):
        source = self.program.get(f"loads/{self.load.pk}/").json()
        told = self.program.get(f"loads/{self.load.pk}/profile/").json()
        self.assertEqual(told, self.command("profile", source))

    def test_an_answer_is_what_the_command_prints(self):
        source = self.program.get("plans/current/").json()
        hours = answer_of(current_plan(self.job)).outcome.plan.hours
        told = self.program.get("plans/current/answer/").json()
        printed = self.command("plan", {**source, "hours": hours})
        self.assertEqual(told.keys(), printed.keys())
        self.assertIn("text", told["verdict"])
        # The command draws 400, tests of the site fewer: the answers are about alike.
        self.assertAlmostEqual(
            told["runtime_h"]["value"] / printed["runtime_h"]["value"], 1.0, delta=0.2
        )

    def test_a_trial_and_a_watch(self):
        watch = begin_watch(self.job)
        source = self.program.get(f"trials/{watch.pk}/").json()
        told = self.program.get("watch/").json()
        self.assertEqual(told.pop("trial"), watch.pk)
        self.assertTrue(told.pop("watched"))
        self.assertEqual(told.keys(), self.command("watch", source).keys())
        forecast = self.program.get(f"trials/{watch.pk}/forecast/").json()
        self.assertEqual(forecast.keys(), self.command("forecast", source).keys())

    def test_no_outage_is_watched(self):
        self.assertEqual(self.program.get("watch/").json(), {"watched": False})

    def test_what_is_given_fits_its_description(self):
        plan = self.job.plans.first()
        supply, trial = self.job.supplies.first(), self.job.trials.first()
        described = {"components": {"schemas": schemas()}}
        for path, name in (
            (f"loads/{self.load.pk}/", "Load"),
            (f"plans/{plan.pk}/", "Plan"),
            (f"supplies/{supply.pk}/", "Supply"),
            (f"trials/{trial.pk}/", "Trial"),
            (f"loads/{self.load.pk}/profile/", "Profile"),
            (f"plans/{plan.pk}/answer/", "Answer"),
            ("loads/", "Page"),
            ("nothing/9/", "Problem"),
        ):
            with self.subTest(path=path):
                answer = self.program.get(path)
                if name != "Problem":
                    self.assertEqual(answer.status_code, 200, answer.content)
                    schema = {"$ref": f"#/components/schemas/{name}", **described}
                    jsonschema.Draft202012Validator(schema).validate(answer.json())

    def test_while_it_is_worked_out_one_is_asked_to_come_back(self):
        with mock.patch("web.api.views.PAGE_WAIT_S", 0.0):
            answer = self.program.get("plans/current/answer/")
        self.assertEqual(answer.status_code, 202)
        self.assertEqual(answer.json()["state"], "calculating")
        self.assertEqual(answer["Location"], answer.json()["url"])
        again = self.program.client.get(answer["Location"])
        self.assertEqual((answer["Retry-After"], again.status_code), ("2", 200))
        self.assertNotIn("ETag", answer)

    def test_what_has_no_answer_says_what_is_missing(self):
        empty = Program(make_job(self.user, "Empty"))
        answer = empty.get("plans/current/answer/")
        self.assertEqual(answer.status_code, 409)
        self.assertIn("No load yet", answer.json()["detail"])

    def test_unchanged_is_not_sent_again(self):
        first = self.program.get("loads/")
        same = self.program.get("loads/", **{"If-None-Match": first["ETag"]})
        self.assertEqual((same.status_code, same.content), (304, b""))
        make_load(self.job, "Another", 40.0)
        other = self.program.get("loads/", **{"If-None-Match": first["ETag"]})
        self.assertEqual(other.status_code, 200)

    def test_pages(self):
        for number in range(5):
            make_load(self.job, f"Lamp {number}", None)
        first = self.program.get("loads/?page_size=4").json()
        self.assertEqual((first["count"], len(first["results"])), (6, 4))
        second = self.program.client.get(first["next"]).json()
        names = [row["name"] for row in first["results"] + second["results"]]
        self.assertEqual(names, ["Mine", *(f"Lamp {number}" for number in range(5))])
        self.assertEqual(self.program.get("loads/?page=9").status_code, 404)


class AddingTest(ApiTest):
    def setUp(self):
        super().setUp()
        self.load = make_load(self.job, "Box", None)
        self.path = f"loads/{self.load.pk}/readings/"

    def test_a_reading_counts_once_for_each_key(self):
        content = json.dumps({**ENERGY, "note": "by the script"})
        first, again = (self.program.post(self.path, content, "night 1") for _ in range(2))
        self.assertEqual((first.status_code, again.status_code), (201, 200))
        self.assertEqual(first.json(), again.json())
        other = self.program.post(self.path, content, "night 2")
        self.assertEqual(other.status_code, 201)
        self.assertEqual(self.load.readings.live().count(), 2)
        reading = Reading.objects.get(pk=first.json()["id"])
        self.assertEqual((reading.note, reading.made_by), ("by the script", "Script (program)"))
        self.assertEqual(reading.read_at.isoformat(), ENERGY["at"])
        self.assertEqual(self.job.changes.first().made_by, "Script (program)")
        listed = self.program.get(self.path).json()["results"]
        self.assertEqual([row["reading"]["wh"] for row in listed], [710, 710])

    def test_a_key_of_another_job_is_another_entry(self):
        theirs = Program(make_job(self.user, "Second"))
        load = make_load(theirs.token.job, "Box", None)
        for program, path in ((self.program, self.path), (theirs, f"loads/{load.pk}/readings/")):
            self.assertEqual(program.post(path, json.dumps(SPOT), "one").status_code, 201)
        self.assertEqual(Reading.objects.count(), 2)

    def test_what_is_refused_is_named_and_changes_nothing(self):
        for content, at in (
            ({**SPOT, "wats": 5}, "wats"),
            ({**SPOT, "watts": "many"}, "watts"),
            ({**SPOT, "type": "guess"}, "type"),
            ({**SPOT, "meter": "Nobody's"}, "meter"),
        ):
            with self.subTest(content=content):
                answer = self.program.post(self.path, json.dumps(content))
                self.assertEqual(answer.status_code, 422)
                self.assertEqual(answer["Content-Type"], "application/problem+json")
                self.assertIn(at, answer.json()["at"])
        for more in ({"at": "2200-01-01T00:00:00+00:00"}, {"note": {"a": 1}}, {"note": "x" * 401}):
            answer = self.program.post(self.path, json.dumps({**SPOT, **more}))
            self.assertEqual(answer.status_code, 400, more)
        for content, kind in (("[1]", "application/json"), ("{", "application/json"), ("x", "a/b")):
            answer = self.program.post(self.path, content, content_type=kind)
            self.assertIn(answer.status_code, (400, 415))
            self.assertEqual(answer.json()["status"], answer.status_code)
        self.assertFalse(self.load.readings.exists())

    def test_a_capture_counts_at_once_and_is_read_back(self):
        path = f"loads/{self.load.pk}/captures/"
        first, again = (self.program.post(path, CSV, "c", "text/csv") for _ in range(2))
        self.assertEqual((first.status_code, again.status_code), (201, 200), first.content)
        self.assertTrue(first.json()["counts"])
        self.assertEqual(self.load.readings.live().get().type, "capture")
        capture = first.json()["id"]
        self.assertEqual(self.program.get(f"captures/{capture}/").json()["samples"], 600)
        text = self.program.get(f"captures/{capture}/samples.csv").content.decode()
        self.assertEqual(len(text.split()), 601)
        refused = self.program.post(path, "when,what\n1,2\n", "d", "text/csv")
        self.assertEqual(refused.status_code, 422)
        self.assertEqual(self.program.get("captures/").json()["count"], 1)

    def test_check_ins_of_a_running_trial(self):
        supply = make_supply(self.job)
        trial = Trial.objects.create(
            job=self.job, name="Run", supply=supply, believed=supply.to_document()
        )
        path = f"trials/{trial.pk}/check-ins/"
        first = self.program.post(path, '{"percent": 90, "watts": 40}', "a")
        again = self.program.post(path, '{"percent": 90, "watts": 40}', "a")
        self.assertEqual((first.status_code, again.status_code), (201, 200), first.content)
        self.assertEqual(CheckIn.objects.get().data, {"percent": 90, "watts": 40})
        for content, status in (
            ('{"percent": 120}', 422),
            ('{"h": 3, "percent": 80}', 400),
            ('{"percent": 80, "at": "2200-01-01T00:00:00+00:00"}', 400),
            ('{"percent": 80, "at": "2001-01-01T00:00:00+00:00"}', 400),
            ('{"percent": 80, "at": "noon"}', 400),
        ):
            self.assertEqual(self.program.post(path, content).status_code, status, content)
        self.assertEqual(trial.check_ins.count(), 1)
        trial.ended_at = trial.started_at
        trial.save()
        self.assertEqual(self.program.post(path, '{"percent": 80}').status_code, 409)


class TokenTest(ApiTest):
    def test_no_token_a_wrong_one_and_a_revoked_one_are_the_same(self):
        stranger = Client()
        for header in ("", "Bearer", "Bearer x", f"Basic {self.program.text}", "Bearer é"):
            answer = stranger.get("/api/v1/job/", headers={"Authorization": header})
            self.assertEqual(answer.status_code, 401, header)
            self.assertEqual(answer["Content-Type"], "application/problem+json")
            self.assertTrue(answer["WWW-Authenticate"].startswith("Bearer"))
        self.assertEqual(self.program.get("job/").json()["role"], "measurer")
        revoke(self.program.token)
        self.assertEqual(self.program.get("job/").status_code, 401)

    def test_only_its_hash_is_stored(self):
        stored = json.dumps(list(ApiToken.objects.values("name", "digest")))
        self.assertNotIn(self.program.text, stored)

    def test_a_signed_in_user_is_no_program(self):
        self.assertEqual(self.client.get("/api/v1/job/").status_code, 401)

    def test_one_that_only_reads_adds_nothing(self):
        reader, load = Program(self.job, adds=False), make_load(self.job, "Box", None)
        answer = reader.post(f"loads/{load.pk}/readings/", json.dumps(SPOT))
        self.assertEqual(answer.status_code, 403)
        self.assertIn("Only those who measure", answer.json()["detail"])
        self.assertFalse(load.readings.exists())

    def test_a_removed_job_is_gone(self):
        self.client.post(self.url("jobs:remove"))
        self.assertEqual(self.program.get("job/").status_code, 401)

    def test_too_often(self):
        with mock.patch.object(authentication, "REQUESTS", authentication.Rate("api-few", 2, 60)):
            answers = [self.program.get("job/") for _ in range(4)]
        self.assertEqual([answer.status_code for answer in answers], [200, 200, 429, 429])
        self.assertIn("Retry-After", answers[-1])

    def test_the_owner_makes_and_revokes_them(self):
        page = self.client.post(self.url("api:programs"), {"name": "Wall display"})
        self.assertEqual(page["Cache-Control"], "no-store")
        text = page.context["text"]
        self.assertContains(page, text)
        self.assertNotContains(self.client.get(self.url("api:programs")), text)
        token = ApiToken.objects.get(name="Wall display")
        self.assertFalse(token.adds)
        self.client.post(self.url("api:revoke", token.pk))
        answer = Client().get("/api/v1/job/", headers={"Authorization": f"Bearer {text}"})
        self.assertEqual(answer.status_code, 401)

    def test_every_address_with_the_token_of_another_job(self):
        theirs = make_job(self.other, f"Job of {SECRET}")
        load = fill(theirs)
        before = {name: table.rows for name, table in package_of(theirs).tables.items()}
        keys = {
            "load": load.pk,
            "capture": load.captures.get().pk,
            "supply": theirs.supplies.get().pk,
            "plan": theirs.plans.get().pk,
            "trial": theirs.trials.get().pk,
            "record": 1,
        }
        seen = 0
        for name, converters in addresses():
            if not name.startswith("api:") or "job" in converters or name == "api:docs":
                continue
            path = reverse(name, kwargs={key: keys[key] for key in converters})
            for method in ("get", "post", "put", "patch", "delete"):
                caches["default"].clear()
                for client in (self.program.client, Client()):
                    with self.subTest(path=path, method=method):
                        answer = getattr(client, method)(path)
                        seen += 1
                        self.assertLess(answer.status_code, 500)
                        self.assertNotIn(SECRET, answer.content.decode())
                        if client is not self.program.client and name != "api:openapi":
                            self.assertIn(answer.status_code, (401, 405))
        self.assertGreater(seen, 150)
        after = {name: table.rows for name, table in package_of(theirs).tables.items()}
        self.assertEqual(before, after)


class DescriptionTest(SiteTest):
    def test_it_is_valid_and_names_every_address(self):
        described = SchemaGenerator().get_schema(request=None, public=True)
        validate_schema(described)
        for name, converters in addresses():
            if name.startswith("api:") and "job" not in converters:
                paths = {path.split("{")[0] for path in described["paths"]}
                known = name in ("api:docs", "api:openapi", "api:old-samples")
                arguments = dict.fromkeys(converters, 7)
                start = reverse(name, kwargs=arguments).split("7")[0]
                self.assertTrue(known or start in paths, f"{name}: {start}")

    def test_it_is_shown_from_this_site_alone(self):
        page = Client().get(reverse("api:docs"))
        self.assertEqual(page.status_code, 200)
        self.assertNotIn("//cdn", page.content.decode())
        self.assertNotRegex(page.content.decode(), r'(?:src|href)="https?:')

    def test_a_plan_that_is_described_is_one_that_is_read(self):
        job = make_job(self.user, "Other")
        make_load(job, "Lamp", 40.0, kind="led")
        make_supply(job)
        validator = jsonschema.Draft202012Validator(schemas()["Plan"])
        source = plan_document(answer_of(current_plan(job)).draft)
        validator.validate(source)
        self.assertFalse(validator.is_valid({**source, "hours": "many"}))
        self.assertFalse(validator.is_valid({**source, "lods": []}))
