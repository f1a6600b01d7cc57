"""A code after the password, for those who want it."""

from __future__ import annotations

import re
from io import StringIO
from unittest import mock

from django.contrib.auth import get_user
from django.core.management import CommandError, call_command
from django.test import Client, override_settings
from django.urls import reverse
from django_otp.oath import TOTP
from django_otp.plugins.otp_totp.models import TOTPDevice

from tests.web.base import SiteTest, clear_caches
from web.accounts.second_step import SPARE_CODES, has_second_step

PASSWORD = "long enough 1"
SIGN_IN, CODE, BEGIN, END = (
    reverse(f"accounts:{name}") for name in ("sign-in", "code", "second-step", "second-step-end")
)


def code_of(user, step=0):
    """What the app of somebody shows, some half minutes from now."""
    device = TOTPDevice.objects.get(user=user)
    totp = TOTP(device.bin_key, device.step, device.t0, device.digits)
    totp.time = totp.time + step * device.step
    return f"{totp.token():06}"


class SecondStepTest(SiteTest):
    def setUp(self):
        clear_caches()
        super().setUp()
        self.user.set_password(PASSWORD)
        self.user.save()
        self.client.force_login(self.user)

    def set_up(self):
        """Set it up; the spare codes."""
        self.client.get(BEGIN)
        page = self.client.post(BEGIN, {"code": code_of(self.user)})
        return re.findall(r"<li><code>(\w+)</code>", page.content.decode())

    def with_password(self, password=PASSWORD, **more):
        outside = Client()
        form = {"username": self.user.username, "password": password, **more}
        return outside, outside.post(SIGN_IN, form)

    def test_it_counts_once_a_first_code_was_right(self):
        page = self.client.get(BEGIN)
        self.assertContains(page, "<svg")
        self.assertContains(self.client.post(BEGIN, {"code": "000000"}), "not the code", 1, 422)
        self.assertFalse(has_second_step(self.user))
        _, answer = self.with_password()
        self.assertRedirects(answer, "/jobs/", fetch_redirect_response=False)
        # The right code is taken at once after a wrong one.
        self.assertEqual(len(self.set_up()), SPARE_CODES)
        self.assertTrue(has_second_step(self.user))

    def test_the_password_alone_opens_nothing(self):
        self.set_up()
        outside, answer = self.with_password(next="/jobs/?q=1")
        self.assertRedirects(answer, CODE)
        self.assertTrue(get_user(outside).is_anonymous)
        self.assertEqual(outside.get("/jobs/").status_code, 302)
        # The same code does not count twice: this is the next one.
        answer = outside.post(CODE, {"code": code_of(self.user, step=1)})
        self.assertRedirects(answer, "/jobs/?q=1", fetch_redirect_response=False)
        self.assertEqual(get_user(outside), self.user)

    def test_a_spare_code_works_once(self):
        spare, *_ = self.set_up()
        for expected in (302, 422):
            outside, _ = self.with_password()
            self.assertEqual(outside.post(CODE, {"code": spare}).status_code, expected)

    def test_guesses_are_counted_and_a_code_without_a_password_is_none(self):
        self.set_up()
        self.assertRedirects(Client().post(CODE, {"code": "123456"}), SIGN_IN)
        statuses = []
        for _ in range(12):
            outside, _ = self.with_password()
            statuses.append(outside.post(CODE, {"code": "000000"}).status_code)
        self.assertEqual((statuses[0], statuses[-1]), (422, 429))

    def test_it_ends_with_the_password_and_not_without(self):
        self.set_up()
        self.assertEqual(self.client.post(END, {"password": "wrong"}).status_code, 422)
        self.assertTrue(has_second_step(self.user))
        self.assertRedirects(self.client.post(END, {"password": PASSWORD}), "/account/")
        self.assertFalse(has_second_step(self.user))
        _, answer = self.with_password()
        self.assertRedirects(answer, "/jobs/", fetch_redirect_response=False)

    def test_whoever_runs_the_site_ends_it_for_somebody_who_lost_all(self):
        self.set_up()
        call_command("end_second_step", self.user.username.upper(), stdout=StringIO())
        self.assertFalse(has_second_step(self.user))
        with self.assertRaises(CommandError):
            call_command("end_second_step", self.user.username)

    def test_the_shared_demo_has_none(self):
        with override_settings(DEMO=True), mock.patch("web.accounts.guards.DEMO_NAME", "ada"):
            self.assertEqual(self.client.get(BEGIN).status_code, 404)
