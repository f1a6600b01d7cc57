"""Links for clients: each shows one thing, for a while, and what comes back waits in an inbox."""

import logging
import re
import uuid
from datetime import timedelta

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.utils import timezone

from tests.web.base import SiteTest, make_job, make_load, make_supply
from tests.web.test_photos import picture
from web.common.log_filter import WithoutTokens
from web.loads.actions import add_photo, add_reading
from web.loads.photos import drawn_anew
from web.plans.models import Plan
from web.share.models import Proposal, ShareLink


class ShareTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.box = make_load(self.job, "Box")
        make_supply(self.job)
        self.plan = Plan.default_of(self.job)
        self.plan.save()
        self.reader = Client()

    def make(self, shows="sheet", **more):
        """The address of a new link."""
        data = {"shows": shows, "name": "Ada", "days": "7", "follows": "live", **more}
        page = self.client.post(self.url("share:links"), data).content.decode()
        return re.search(r"http://testserver(/s/[^<]+/)", page)[1]

    def link(self):
        return ShareLink.objects.latest("pk")


class LinkTest(ShareTest):
    def test_a_sheet_is_seen_without_an_account_and_counted(self):
        address = self.make()
        for _ in range(2):
            page = self.reader.get(address)
            self.assertContains(page, "Box")
        self.assertEqual(page["Cache-Control"], "no-store")
        self.assertEqual(page["Referrer-Policy"], "same-origin")
        self.assertIn("noindex", page["X-Robots-Tag"])
        self.assertNotContains(page, "/jobs/")
        links = self.client.get(self.url("share:links")).content.decode()
        self.assertRegex(links, r"2\stimes, last")

    def test_the_token_and_the_word_are_stored_as_hashes_only(self):
        address = self.make(secret="heron")
        stored = str(vars(self.link()))
        self.assertNotIn(address.split("/")[2], stored)
        self.assertNotIn("heron", stored)
        self.assertNotContains(self.client.get(self.url("share:links")), address.split("/")[2])

    def test_ended_revoked_removed_and_unknown_look_the_same(self):
        def ended():
            ShareLink.objects.update(expires_at=timezone.now() - timedelta(seconds=1))

        def revoked():
            self.client.post(self.url("share:revoke", self.link().pk))

        def without_plan():
            Plan.objects.filter(pk=self.plan.pk).update(removed_at=timezone.now())

        def without_job():
            self.client.post(self.url("jobs:remove"))

        for end in (ended, revoked, without_plan, without_job):
            with self.subTest(end.__name__):
                address = self.make(plan=self.plan.pk)
                self.assertEqual(self.reader.get(address).status_code, 200)
                end()
                gone, unknown = self.reader.get(address), self.reader.get("/s/unknown/")
                self.assertEqual((gone.status_code, unknown.status_code), (404, 404))
                self.assertEqual(gone.content, unknown.content)
                Plan.objects.filter(pk=self.plan.pk).update(removed_at=None)

    def test_a_link_follows_its_plan_or_stays_as_of_now(self):
        live, frozen = self.make(), self.make(follows="now")
        self.box.name = "Bigger box"
        self.box.save()
        self.assertContains(self.reader.get(live), "Bigger box")
        self.assertNotContains(self.reader.get(frozen), "Bigger box")
        self.assertContains(self.reader.get(frozen), "As of")

    def test_a_sheet_stays_its_plans_when_another_becomes_current(self):
        address = self.make()
        other = Plan.default_of(self.job)
        other.name, other.is_current, other.client_key = "Zanzibar night", True, uuid.uuid4()
        Plan.objects.update(is_current=False)
        other.save()
        self.assertNotContains(self.reader.get(address), "Zanzibar night")
        self.assertEqual(self.link().plan, self.plan)

    def test_a_word_is_asked_for_and_guessing_ends(self):
        address = self.make(secret="heron")
        self.assertNotContains(self.reader.get(address), "Box")
        self.assertEqual(self.reader.post(address, {"word": "crane"}).status_code, 422)
        self.assertContains(self.reader.post(address, {"word": "heron"}), "Box")
        self.assertContains(self.reader.get(address), "Box")
        other = Client()
        answers = [other.post(address, {"word": f"guess {n}"}) for n in range(12)]
        self.assertContains(answers[-1], "Too many tries", status_code=422)
        self.assertNotContains(other.post(address, {"word": "heron"}), "Bo\u0078", status_code=422)

    def test_a_list_that_was_opened_is_taken_when_its_session_has_ended(self):
        address = self.make("list", secret="heron")
        opened = self.reader.post(address, {"word": "heron"}).content.decode()
        said = re.search(r'name="said" value="([^"]+)"', opened)[1]
        sent = {
            "row-TOTAL_FORMS": "1",
            "row-INITIAL_FORMS": "0",
            "row-0-name": "Kettle",
            "sent_key": str(uuid.uuid4()),
        }
        other = Client()
        self.assertNotContains(other.post(address, sent), "Thank you")
        self.assertNotContains(other.post(address, {**sent, "said": "x"}), "Thank you")
        self.assertContains(other.post(address, {**sent, "said": said}), "Thank you")
        self.assertEqual(Proposal.objects.count(), 1)
        second = self.make("list", secret="crane")
        self.assertNotContains(other.post(second, {**sent, "said": said}), "Thank you")
        self.assertNotContains(other.get(address), "What is plugged in")

    def test_photos_only_where_they_are_shared_and_only_of_this_job(self):
        reading = add_reading(self.box, "spot", {"state": "running", "watts": 118.0})
        mine = add_photo(reading, drawn_anew(SimpleUploadedFile("a.jpg", picture())))
        theirs_load = make_load(make_job(self.other), "Theirs")
        spot = add_reading(theirs_load, "spot", {"state": "running", "watts": 118.0})
        theirs = add_photo(spot, drawn_anew(SimpleUploadedFile("b.jpg", picture())))
        without, with_photos = self.make(), self.make(photos="on")
        for address, photo, status in (
            (without, mine, 404),
            (with_photos, mine, 200),
            (with_photos, theirs, 404),
        ):
            answer = self.reader.get(f"{address}photos/{photo.pk}.jpg")
            self.assertEqual(answer.status_code, status)
        self.assertContains(self.reader.get(with_photos), f"photos/{mine.pk}.jpg")

    def test_the_card_by_link_leads_nowhere_else(self):
        page = self.reader.get(self.make("card"))
        self.assertContains(page, "On the wall beside the battery")
        self.assertNotContains(page, "/jobs/")

    def test_the_wall_card_on_a_sheet_only_on_request(self):
        title = "Wall card: what can run"
        sheet = self.url("sheets:sheet")
        self.assertNotContains(self.client.get(sheet), title)
        with_card = self.client.get(f"{sheet}?card=1")
        self.assertContains(with_card, title)
        self.assertContains(with_card, "?plan=" + str(self.plan.pk) + "&amp;card=1")
        tables = self.client.get(f"{self.url('sheets:tables')}?card=1").content.decode()
        self.assertIn("Wall card: in which order", tables)
        pdf = self.client.get(f"{self.url('sheets:pdf', 'a4')}?card=1")
        self.assertTrue(pdf.content.startswith(b"%PDF"))
        self.assertNotContains(self.reader.get(self.make()), title)
        self.assertContains(self.reader.get(self.make(card="on")), title)

    def test_another_persons_plan_is_no_choice_and_their_links_are_not_mine(self):
        plan = Plan.default_of(make_job(self.other))
        plan.save()
        data = {"shows": "sheet", "name": "Ada", "days": "7", "plan": plan.pk}
        self.assertEqual(self.client.post(self.url("share:links"), data).status_code, 422)
        self.make()
        stranger = Client()
        stranger.force_login(self.other)
        revoke = self.url("share:revoke", self.link().pk)
        self.assertEqual(stranger.post(revoke).status_code, 404)
        self.assertIsNone(self.link().revoked_at)

    def test_logs_do_not_hold_a_token(self):
        args = ("Not Found", "/s/abc-DEF_1/photos/1.jpg")
        record = logging.LogRecord("x", 30, "", 1, "%s: %s", args, None)
        self.assertTrue(WithoutTokens().filter(record))
        self.assertEqual(record.getMessage(), "Not Found: /s/…/photos/1.jpg")


class ListTest(ShareTest):
    def send(self, address, *rows, key=None, client=None, **more):
        data = {"row-TOTAL_FORMS": len(rows), "row-INITIAL_FORMS": 0, **more}
        data["sent_key"] = str(key or uuid.uuid4())
        for number, row in enumerate(rows):
            whole = {"read_from": "label", **row}
            data |= {f"row-{number}-{part}": value for part, value in whole.items()}
        return (client or self.reader).post(address, data)

    def proposal(self):
        return Proposal.objects.latest("pk")

    def accept(self, **changed):
        proposal = self.proposal()
        values = {"name": "TV", "watts": "90", "read_from": "label", "often": "", **changed}
        data = {f"p{proposal.pk}-{key}": value for key, value in values.items()}
        return self.client.post(self.url("share:accept", proposal.pk), data)

    def test_what_a_client_notes_waits_and_counts_only_once_accepted(self):
        address = self.make("list")
        self.assertContains(self.reader.get(address), "What is plugged in?")
        self.assertNotContains(self.reader.get(address), "Box")
        answer = self.send(
            address, {"name": "TV", "watts": "90", "often": "4 hours a day"}, {"name": ""}
        )
        self.assertRegex(answer.content.decode(), r"1\srow sent")
        self.assertEqual(self.job.loads.live().count(), 1)
        page = self.client.get(self.url("share:inbox"))
        self.assertContains(page, 'value="TV"')
        self.accept(often="4 hours a day")
        load = self.job.loads.live().get(name="TV")
        self.assertEqual(load.usual_use, {"hours": 4.0})
        self.assertIn("From Ada", load.note)
        self.assertEqual(load.readings.get().note, "From Ada.")
        self.assertContains(self.client.get(self.url("share:inbox")), "Nothing waits")

    def test_accepting_twice_is_one_load_and_undo_takes_it_back(self):
        self.send(self.make("list"), {"name": "TV", "watts": "90"})
        proposal = self.proposal()
        self.accept()
        again = self.client.post(self.url("share:accept", proposal.pk), {})
        self.assertEqual(again.status_code, 404)
        self.assertEqual(self.job.loads.live().filter(name="TV").count(), 1)
        change = self.job.changes.filter(undone=False).first()
        self.client.post(self.url("jobs:undo", change.pk))
        self.assertFalse(self.job.loads.live().filter(name="TV").exists())

    def test_what_is_odd_is_marked_changed_or_put_aside(self):
        self.send(self.make("list"), {"name": "Box", "watts": "lots"})
        page = self.client.get(self.url("share:inbox"))
        self.assertContains(page, "“lots” is not a quantity")
        taken = self.accept(name="Box", watts="90", appliance="lamp")
        self.assertContains(taken, "already", status_code=422)
        self.client.post(self.url("share:aside", self.proposal().pk))
        self.assertContains(self.client.get(self.url("share:inbox")), "Nothing waits")
        self.assertEqual(self.job.loads.live().count(), 1)

    def test_sent_twice_is_one_and_empty_or_too_much_is_refused(self):
        address, key = self.make("list"), uuid.uuid4()
        for _ in range(2):
            self.send(address, {"name": "TV"}, key=key)
        self.assertEqual(Proposal.objects.count(), 1)
        self.assertContains(self.send(address, {"name": ""}), "Nothing is", status_code=422)
        self.assertEqual(self.reader.post(address, {}).status_code, 422)
        Proposal.objects.bulk_create(
            Proposal(link=self.link(), number=n, values={"name": f"TV {n}"}) for n in range(220)
        )
        self.assertContains(self.send(address, {"name": "Fan"}), "no room", status_code=422)

    def test_a_photo_comes_with_it_and_a_clients_text_is_text(self):
        file = SimpleUploadedFile("label.jpg", picture(), "image/jpeg")
        self.send(self.make("list"), {"name": "<b>TV</b>", "watts": "90", "photo": file})
        page = self.client.get(self.url("share:inbox"))
        self.assertContains(page, "&lt;b&gt;TV&lt;/b&gt;")
        shown = self.client.get(self.url("share:picture", self.proposal().pk))
        self.assertEqual(shown["Content-Type"], "image/jpeg")
        stranger = Client()
        stranger.force_login(self.other)
        address = self.url("share:picture", self.proposal().pk)
        self.assertEqual(stranger.get(address).status_code, 404)
        alone = self.accept(watts="")
        self.assertContains(alone, "Give the watts that the photo shows", status_code=422)
        self.accept()
        self.assertEqual(self.job.loads.get(name="TV").readings.get().photos.count(), 1)

    def test_a_list_behind_a_word_takes_nothing_before_it_was_said(self):
        address = self.make("list", secret="heron")
        self.send(address, {"name": "TV"})
        self.assertEqual(Proposal.objects.count(), 0)

    def test_a_sheets_link_takes_no_list(self):
        self.send(self.make(), {"name": "TV"})
        self.assertEqual(Proposal.objects.count(), 0)
