"""Accounts: passwords changed and mended, guesses counted, the demo's own and its visitors."""

from __future__ import annotations

import re
from datetime import timedelta
from io import StringIO
from unittest import mock

from django.contrib.auth import get_user, get_user_model
from django.core import mail
from django.core.management import call_command
from django.test import Client, TestCase, override_settings
from django.urls import reverse
from django.utils import timezone

from needle.package import read
from tests.demo_data import load_demo
from tests.web.base import SiteTest, clear_caches
from web.demo.models import PreparedJob
from web.demo.scenario import PASSWORD, USERNAME
from web.demo.stock import IN_STOCK, restock
from web.demo.visits import STAYS, prepare, say_goodbye
from web.jobs.models import Job
from web.sheets.exchange import export_job

SIGN_IN = reverse("accounts:sign-in")


def signs_in(username, password):
    return Client().post(SIGN_IN, {"username": username, "password": password}).status_code == 302


class PasswordTest(SiteTest):
    def test_a_change_ends_the_other_sessions_and_keeps_this_one(self):
        other = Client()
        other.force_login(self.user)
        new = "a longer one 22"
        answer = self.client.post(
            reverse("accounts:password"),
            {
                "old_password": "long enough 1",
                "new_password1": new,
                "new_password2": new,
            },
        )
        self.assertRedirects(answer, reverse("accounts:account"))
        self.assertEqual(self.client.get("/jobs/").status_code, 200)
        self.assertEqual(other.get("/jobs/").status_code, 302)
        self.assertTrue(signs_in("ada", new))

    def test_a_wrong_old_password_changes_nothing(self):
        answer = self.client.post(
            reverse("accounts:password"),
            {
                "old_password": "wrong",
                "new_password1": "a longer one 22",
                "new_password2": "a longer one 22",
            },
        )
        self.assertContains(answer, "was entered incorrectly")
        self.assertTrue(signs_in("ada", "long enough 1"))

    @override_settings(MAIL=True)
    def test_a_forgotten_one_is_mended_by_mail_once(self):
        self.client.post(reverse("accounts:mail"), {"email": "ada@needle.example"})
        self.client.logout()
        self.assertContains(self.client.get(SIGN_IN), "Forgot the password?")
        for address in ("ada@needle.example", "nobody@needle.example"):
            answer = self.client.post(
                reverse("accounts:forgotten"), {"email": address}, follow=True
            )
            self.assertContains(answer, "If an account has that address")
        (letter,) = mail.outbox
        link = re.search(r"http://testserver(/forgotten/\S+)", letter.body)[1]
        page = self.client.get(link, follow=True)
        new = "a longer one 22"
        data = {"new_password1": new, "new_password2": new}
        self.assertRedirects(self.client.post(page.request["PATH_INFO"], data), SIGN_IN)
        self.assertTrue(signs_in("ada", new))
        self.assertContains(Client().get(link, follow=True), "used already")

    def test_without_mail_no_letter_is_offered(self):
        self.assertEqual(self.client.get(reverse("accounts:mail")).status_code, 404)
        self.client.logout()
        self.assertEqual(self.client.get(reverse("accounts:forgotten")).status_code, 404)
        self.assertNotContains(self.client.get(SIGN_IN), "Forgot the password?")


class NameTest(SiteTest):
    def test_names_are_compared_without_case(self):
        self.client.logout()
        self.client.post(SIGN_IN, {"username": "ADA", "password": "long enough 1"})
        self.assertEqual(self.client.get("/jobs/").status_code, 200)
        answer = Client().post(
            reverse("accounts:sign-up"),
            {
                "username": "Ada",
                "password1": "quite long 34",
                "password2": "quite long 34",
            },
        )
        self.assertContains(answer, "already exists", status_code=422)

    def test_guesses_in_any_case_count_together(self):
        names = ["eve", "Eve", "EVE", "eVe", "evE", "EvE", "eve"]
        last = [Client().post(SIGN_IN, {"username": name, "password": "x"}) for name in names][-1]
        self.assertEqual(last.status_code, 429)


class RateTest(TestCase):
    def setUp(self):
        clear_caches()

    def test_guesses_of_many_names_from_one_address_end(self):
        statuses = [
            self.client.post(SIGN_IN, {"username": f"user{n}", "password": "x"}).status_code
            for n in range(41)
        ]
        self.assertEqual((statuses[0], statuses[-1]), (200, 429))
        elsewhere = self.client.post(
            SIGN_IN, {"username": "x", "password": "x"}, REMOTE_ADDR="203.0.113.9"
        )
        self.assertEqual(elsewhere.status_code, 200)

    def test_sign_ups_from_one_address_end(self):
        for n in range(11):
            answer = Client().post(
                reverse("accounts:sign-up"),
                {
                    "username": f"user{n}",
                    "password1": "quite long 34",
                    "password2": "quite long 34",
                },
            )
        self.assertEqual(answer.status_code, 429)
        self.assertEqual(get_user_model().objects.count(), 10)


class CachingTest(SiteTest):
    def test_pages_are_for_one_reader_only(self):
        answer = self.client.get(self.url("loads:survey"))
        self.assertIn("private", answer["Cache-Control"])
        self.assertIn("Cookie", answer["Vary"])

    def test_browsers_keep_no_page_of_somebody_who_is_signed_in(self):
        self.assertIn("no-store", self.client.get(self.url("loads:survey"))["Cache-Control"])
        self.assertNotIn("no-store", Client().get(reverse("accounts:sign-up"))["Cache-Control"])


class VisitorTest(TestCase):
    @classmethod
    def setUpTestData(cls):
        load_demo()
        cls.demo = get_user_model().objects.get(username=USERNAME)
        prepare(cls.demo)

    def setUp(self):
        clear_caches()

    def look_around(self):
        visitor = Client()
        self.assertRedirects(visitor.post(reverse("demo:look-around")), "/jobs/")
        return visitor, get_user_model().objects.order_by("-pk").first()

    def test_each_has_a_copy_that_the_next_does_not_share(self):
        first, user = self.look_around()
        second, other = self.look_around()
        self.assertNotEqual(user, other)
        self.assertContains(first.get("/jobs/"), "Tern Point Animal Clinic")
        first.post(reverse("accounts:delete"))
        self.assertFalse(get_user_model().objects.filter(pk=user.pk).exists())
        self.assertEqual(Job.objects.visible_to(other).count(), 2)
        self.assertEqual(Job.objects.visible_to(self.demo).count(), 2)
        clinic = Job.objects.visible_to(other).get(name__startswith="Tern")
        self.assertTrue(any(load.sessions.exists() for load in clinic.loads.all()))
        measuring = clinic.rounds.get()
        self.assertEqual(measuring.plan.job, clinic)
        self.assertFalse(measuring.over)
        self.assertContains(
            second.get(reverse("rounds:round", args=[clinic.pk, measuring.pk])), "Step"
        )
        self.assertEqual(other.drill_runs.count(), 2)

    def test_a_copy_is_the_demo_with_its_moments_moved_by_whole_days(self):
        PreparedJob.objects.update(made_at=timezone.now() - timedelta(days=5, hours=1))
        _, visitor = self.look_around()
        for job in Job.objects.visible_to(visitor):
            theirs = Job.objects.visible_to(self.demo).get(name=job.name)
            copy, original = (read(export_job(stored)) for stored in (job, theirs))
            for name, table in original.tables.items():
                self.assertEqual(copy.tables[name].length, table.length, name)
            for mine, its in zip(
                job.trials.order_by("pk"), theirs.trials.order_by("pk"), strict=True
            ):
                self.assertEqual(mine.started_at - its.started_at, timedelta(days=5))

    def test_visitors_are_gone_a_day_later(self):
        visitor, user = self.look_around()
        _, today = self.look_around()
        user.date_joined = timezone.now() - STAYS - timedelta(minutes=1)
        user.save()
        self.assertEqual(say_goodbye(), 1)
        self.assertEqual(visitor.get("/jobs/").status_code, 302)
        self.assertFalse(Job.objects.filter(owner_id=user.pk).exists())
        self.assertTrue(get_user_model().objects.filter(pk=today.pk).exists())
        call_command("tidy", stdout=StringIO())

    @override_settings(VISITOR_STOCK=2)
    def test_copies_that_wait_are_given_away_once_each(self):
        self.enterContext(mock.patch("web.demo.stock.restock_soon"))
        self.assertEqual((restock(0.0), restock(0.0)), (2, 0))
        waiting = set(get_user_model().objects.filter(groups__name=IN_STOCK))
        with mock.patch("web.demo.stock.new_visitor") as made:
            taken = []
            for _ in range(2):
                visitor = Client()
                visitor.post(reverse("demo:look-around"))
                taken.append(get_user(visitor))
                self.assertContains(visitor.get("/jobs/"), "Tern Point Animal Clinic")
            made.assert_not_called()
        self.assertEqual(set(taken), waiting)
        self.assertTrue(all(not user.groups.filter(name=IN_STOCK) for user in taken))
        _, another = self.look_around()
        self.assertNotIn(another, taken)

    @override_settings(VISITOR_STOCK=2)
    def test_copies_that_waited_for_a_day_are_made_anew(self):
        restock(0.0)
        old = get_user_model().objects.filter(groups__name=IN_STOCK).first()
        old.date_joined = timezone.now() - STAYS - timedelta(minutes=1)
        old.save()
        self.assertEqual(restock(0.0), 1)
        self.assertFalse(get_user_model().objects.filter(pk=old.pk).exists())

    def test_the_named_account_stays_as_it_is(self):
        self.client.force_login(self.demo)
        new = {
            "old_password": PASSWORD,
            "new_password1": "other 12345x",
            "new_password2": "other 12345x",
        }
        for name, data in (("delete", {"password": PASSWORD}), ("password", new)):
            answer = self.client.post(reverse(f"accounts:{name}"), data, follow=True)
            self.assertContains(answer, "The demo account stays as it is")
        self.assertTrue(signs_in(USERNAME, PASSWORD))
        with override_settings(DEMO=False):
            answer = self.client.post(reverse("accounts:delete"), {"password": PASSWORD})
            self.assertRedirects(answer, SIGN_IN, fetch_redirect_response=False)


class FreshSiteTest(TestCase):
    def test_without_any_account_the_way_in_is_to_make_one(self):
        self.assertRedirects(
            self.client.get(reverse("accounts:sign-in")), reverse("accounts:sign-up")
        )
        get_user_model().objects.create_user("ada", password="long enough 1")
        self.assertContains(self.client.get(reverse("accounts:sign-in")), "what to measure next")
