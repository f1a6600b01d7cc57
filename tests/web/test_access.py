"""Who sees what: nobody another's job, everybody a strict policy, guessers a closed door."""

import stat
import tempfile
from datetime import timedelta
from io import StringIO
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.core.management import call_command
from django.test import Client, TestCase, override_settings
from django.urls import reverse
from django.utils import timezone

from tests.demo_data import load_demo
from tests.web.base import SiteTest, make_job, make_load, make_supply
from web.first_start import prepare
from web.jobs.models import Job


class ForeignTest(SiteTest):
    def test_anothers_things_under_ones_own_job_are_a_404(self):
        job = make_job(self.other)
        load, supply = make_load(job), make_supply(job)
        mine = make_load(self.job, "Mine")
        for url in (
            self.url("loads:load", load.pk),
            self.url("supplies:edit", supply.pk),
            self.url("loads:edit-reading", mine.pk, load.readings.get().pk),
        ):
            self.assertEqual(self.client.get(url).status_code, 404)
        use = self.client.post(self.url("plans:use-load", 0, load.pk), {})
        self.assertEqual(use.status_code, 404)
        answer = self.client.post(
            self.url("plans:add"),
            {
                "name": "P",
                "needed_hours": "5",
                "start": "2027-01-01T18:00",
                "start_charge": "100",
                "supply": supply.pk,
            },
        )
        self.assertEqual(answer.status_code, 422)

    def test_anothers_form_key_never_hands_out_their_record(self):
        job = make_job(self.other)
        theirs = make_load(job, "Theirs")
        answer = self.client.post(
            self.url("loads:add"),
            {"name": "Mine", "kind": "led", "priority": "must", "client_key": theirs.client_key},
        )
        self.assertEqual(answer.status_code, 302)
        self.assertEqual(self.job.loads.get().name, "Mine")

    def test_strangers_are_sent_to_sign_in(self):
        answer = Client().get(self.url("loads:survey"))
        self.assertRedirects(
            answer, f"{reverse('accounts:sign-in')}?next={self.url('loads:survey')}"
        )

    def test_a_removed_job_is_gone_and_comes_back(self):
        self.client.post(self.url("jobs:remove"))
        self.assertEqual(self.client.get(self.url("loads:survey")).status_code, 404)
        self.assertContains(self.client.get("/jobs/"), "Removed jobs (1)")
        self.client.post(self.url("jobs:restore"))
        self.assertEqual(self.client.get(self.url("loads:survey")).status_code, 200)
        self.assertEqual(self.client.post(self.url("jobs:restore")).status_code, 404)

    def test_a_removed_job_is_deleted_a_month_later(self):
        month = Job.objects.filter(pk=self.job.pk)
        for days, left in ((29, 1), (31, 0)):
            month.update(removed_at=timezone.now() - timedelta(days=days))
            self.client.force_login(self.user)
            self.assertEqual(month.count(), left)


class DoorTest(TestCase):
    def test_signing_up_in_and_out(self):
        form = {"username": "eve", "password1": "quite long 77", "password2": "quite long 77"}
        self.assertRedirects(self.client.post(reverse("accounts:sign-up"), form), "/jobs/")
        self.client.post(reverse("accounts:sign-out"))
        self.assertEqual(self.client.get("/jobs/").status_code, 302)
        signed = self.client.post(
            reverse("accounts:sign-in"), {"username": "eve", "password": "quite long 77"}
        )
        self.assertRedirects(signed, "/jobs/")

    def test_a_bad_sign_up_says_why(self):
        answer = self.client.post(
            reverse("accounts:sign-up"), {"username": "eve", "password1": "1"}
        )
        self.assertEqual(answer.status_code, 422)
        self.assertContains(answer, "eve", status_code=422)

    def test_guessing_is_throttled(self):
        statuses = [
            self.client.post(
                reverse("accounts:sign-in"), {"username": "eve", "password": f"guess {number}"}
            ).status_code
            for number in range(settings.AXES_FAILURE_LIMIT + 1)
        ]
        self.assertEqual(statuses[0], 200)
        self.assertEqual(statuses[-1], 429)

    def test_the_demo_account_is_offered_in_demo_mode_only(self):
        load_demo()
        self.assertContains(self.client.get(reverse("accounts:sign-in")), "Look around")
        with override_settings(DEMO=False):
            self.assertNotContains(self.client.get(reverse("accounts:sign-in")), "Look around")
            self.assertEqual(self.client.post(reverse("demo:look-around")).status_code, 404)
        self.assertRedirects(self.client.post(reverse("demo:look-around")), "/jobs/")


class PolicyTest(SiteTest):
    def test_pages_send_a_strict_policy(self):
        policy = self.client.get(self.url("loads:survey")).headers["Content-Security-Policy"]
        self.assertIn("default-src 'none'", policy)
        self.assertIn("script-src 'self'", policy)
        self.assertNotIn("unsafe", policy)

    def test_pages_need_nothing_that_the_policy_forbids(self):
        make_load(self.job)
        make_supply(self.job)
        for name in ("loads:survey", "supplies:list", "plans:current", "loads:add"):
            page = self.client.get(self.url(name)).content.decode()
            with self.subTest(page=name):
                self.assertNotIn(" style=", page)
                self.assertNotIn(" onclick=", page)
                self.assertNotRegex(page, r"<script>|<style")
                self.assertNotRegex(page, r'(src|href)="https?://')

    def test_posts_need_the_token(self):
        strict = Client(enforce_csrf_checks=True)
        strict.force_login(self.user)
        self.assertEqual(strict.post(self.url("jobs:remove")).status_code, 403)

    def test_getting_changes_nothing(self):
        for name in ("jobs:remove",):
            self.assertEqual(self.client.get(self.url(name)).status_code, 405)

    def test_deployment_check_is_clean(self):
        secure = {
            "DEBUG": False,
            "SECRET_KEY": "k" * 20 + "abcdefghijklmnopqrstuvwxyz0123456789",
            "SECURE_SSL_REDIRECT": True,
            "SESSION_COOKIE_SECURE": True,
            "CSRF_COOKIE_SECURE": True,
            "SECURE_HSTS_SECONDS": 31_536_000,
            "SECURE_HSTS_INCLUDE_SUBDOMAINS": True,
            "SECURE_HSTS_PRELOAD": True,
            "SILENCED_SYSTEM_CHECKS": [],
            "ALLOWED_HOSTS": ["needle.example"],
        }
        with override_settings(**secure):
            call_command("check", deploy=True, fail_level="WARNING", stdout=StringIO())

    def test_no_migration_is_missing(self):
        call_command("makemigrations", check=True, dry_run=True, stdout=StringIO())


class FirstStartTest(TestCase):
    def test_the_key_is_made_once_for_its_owner_only(self):
        with tempfile.TemporaryDirectory() as folder:
            key = prepare(Path(folder) / "data")
            text = key.read_text()
            self.assertGreater(len(text), 50)
            self.assertEqual(stat.S_IMODE(key.stat().st_mode), 0o600)
            self.assertEqual(prepare(Path(folder) / "data").read_text(), text)
            self.assertEqual([path.name for path in key.parent.iterdir()], ["secret_key"])

    def test_a_kill_while_writing_leaves_no_half_key(self):
        with tempfile.TemporaryDirectory() as folder:
            killed = mock.patch.object(Path, "replace", side_effect=KeyboardInterrupt)
            with killed, self.assertRaises(KeyboardInterrupt):
                prepare(Path(folder))
            self.assertFalse((Path(folder) / "secret_key").exists())
            self.assertGreater(len(prepare(Path(folder)).read_text()), 50)
