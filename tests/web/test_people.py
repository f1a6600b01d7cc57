"""People at a job: invited, joining, what each role may do, and who did what."""

from __future__ import annotations

import re
from datetime import timedelta

from django.contrib.auth import get_user_model
from django.test import Client
from django.urls import Resolver404, resolve, reverse
from django.utils import timezone

from tests.web.base import SPOT, SiteTest, make_load
from tests.web.test_addresses import addresses, fill
from web.api.actions import add_token
from web.api.models import ApiToken
from web.bench.loggers import add_logger
from web.jobs import people
from web.jobs.access import acting, needs_of
from web.jobs.models import Invitation, Member, Role
from web.loads.actions import add_reading
from web.loads.models import Reading
from web.share.actions import add_link
from web.share.models import ShareLink
from web.sheets.entered_by import entered_by
from web.sheets.exchange import package_of

#: Addresses that a measurer may change with and a viewer may not.
MEASURED = {
    *(
        f"bench:{name}"
        for name in ("index", "keep-meter", "check-meter", "keep-spot", "keep-start")
    ),
    *(f"bench:{name}" for name in ("keep-counter", "reset", "speed", "tally", "stop", "upload")),
    *(f"bench:{name}" for name in ("capture", "keep", "levels", "collect")),
    *(f"loads:{name}" for name in ("add", "walk", "paste", "same-again", "combined", "put-off")),
    *("loads:add-reading", "loads:edit-reading"),
    *("matching:record-start", "matching:record-correction", "supplies:test", "jobs:undo"),
    *(f"trials:{name}" for name in ("start", "past", "edit", "check-in", "edit-check-in")),
    *("trials:end", "trials:resume", "trials:simulate"),
    *(f"watch:{name}" for name in ("begin", "rehearse", "change", "again", "switch", "charge")),
    *("watch:step", "watch:look", "watch:back"),
    *("rounds:index", "house:index", "rounds:mark", "rounds:anew"),
}
#: Addresses that a viewer may send something to: nothing of the job changes.
VIEWED = {"plans:what-if", "matching:correction", "supplies:comes-to", "jobs:leave"}


class TwoPeopleTest(SiteTest):
    """``self.user`` owns the job; ``self.other`` is invited."""

    def setUp(self):
        super().setUp()
        self.theirs = Client()
        self.theirs.force_login(self.other)

    def join(self, role=Role.MEASURER):
        return Member.objects.create(job=self.job, user=self.other, role=int(role))


class PeopleTest(TwoPeopleTest):
    def invited(self, **more):
        data = {"name": "Ben", "role": int(Role.MEASURER), "how": "link", **more}
        return self.client.post(self.url("jobs:people"), data)

    def test_a_link_is_used_once_and_only_its_hash_is_stored(self):
        page = self.invited()
        token = re.search(r"/join/([\w-]+)/", page.content.decode()).group(1)
        self.assertEqual(page["Cache-Control"], "no-store")
        self.assertFalse(Invitation.objects.filter(digest=token).exists())
        path = reverse("jobs:join", args=[token])
        self.assertContains(self.theirs.get(path), "invites you to Job")
        self.assertEqual(self.theirs.get(self.url("loads:survey")).status_code, 404)
        self.assertRedirects(self.theirs.post(path), self.url("loads:survey"))
        self.assertEqual(self.job.members.get().role, Role.MEASURER)
        third = Client()
        third.force_login(get_user_model().objects.create_user("third"))
        self.assertContains(third.post(path), "This invitation is over", status_code=404)
        self.assertEqual(self.job.members.count(), 1)

    def test_whoever_has_no_account_yet_makes_one_and_goes_on_to_join(self):
        _, token = people.invite(Invitation(job=self.job, name="Ben", by_link=True))
        path, new = reverse("jobs:join", args=[token]), Client()
        sign_in = new.get(path, follow=True)
        self.assertContains(sign_in, f"/sign-up/?next={path}")
        data = {"username": "ben", "password1": "long enough 1", "password2": "long enough 1"}
        page = new.get("/sign-up/", {"next": path})
        self.assertContains(page, f'name="next" value="{path}"')
        self.assertRedirects(new.post("/sign-up/", {**data, "next": path}), path)
        other = {**data, "username": "eve", "next": "//evil.example/"}
        self.assertRedirects(Client().post("/sign-up/", other), "/jobs/")

    def test_an_ended_or_withdrawn_invitation_lets_nobody_in(self):
        invitation, token = people.invite(Invitation(job=self.job, name="Ben", by_link=True))
        Invitation.objects.update(expires_at=timezone.now() - timedelta(seconds=1))
        self.assertEqual(self.theirs.post(reverse("jobs:join", args=[token])).status_code, 404)
        Invitation.objects.update(expires_at=timezone.now() + timedelta(days=1))
        self.client.post(self.url("jobs:withdraw", invitation.pk))
        self.assertEqual(self.theirs.post(reverse("jobs:join", args=[token])).status_code, 404)
        self.assertFalse(self.job.members.exists())

    def test_by_name_they_answer_on_their_list_of_jobs(self):
        page = self.invited(name=self.other.username.upper(), how="name")
        self.assertNotContains(page, "/join/")
        invitation = Invitation.objects.get()
        self.assertContains(self.theirs.get("/jobs/"), "invites you to")
        path = reverse("jobs:invitation", args=[invitation.pk])
        self.assertEqual(self.client.post(path, {"answer": "join"}).status_code, 404)
        self.theirs.post(path, {"answer": "join"})
        self.assertEqual(self.job.members.get().user, self.other)
        self.assertContains(self.theirs.get("/jobs/"), "measurer of")
        self.assertEqual(self.theirs.post(path, {"answer": "join"}).status_code, 404)

    def test_who_invites_does_not_learn_which_names_exist(self):
        pages = []
        for name in (self.other.username, "nobody-at-all"):
            Invitation.objects.all().delete()
            page = self.invited(name=name, how="name").content.decode()
            page = page[page.index("<main") :].replace(name, "NAME")
            pages.append(re.sub(r"/people/\d+/|value=\"[\w-]{20,}\"", "", page))
        self.assertEqual(*pages)

    def test_declining(self):
        self.invited(name=self.other.username, how="name")
        path = reverse("jobs:invitation", args=[Invitation.objects.get().pk])
        self.theirs.post(path, {"answer": "no"})
        self.assertFalse(Invitation.objects.exists())
        self.assertFalse(self.job.members.exists())

    def test_taken_off_or_leaving_they_see_nothing_from_then_on(self):
        for path, client in (("member", self.client), ("leave", self.theirs)):
            with self.subTest(path=path):
                member = self.join(Role.VIEWER)
                self.assertEqual(self.theirs.get(self.url("loads:survey")).status_code, 200)
                args = [member.pk] if path == "member" else []
                client.post(self.url(f"jobs:{path}", *args))
                self.assertEqual(self.theirs.get(self.url("loads:survey")).status_code, 404)

    def test_the_owner_changes_a_role(self):
        member, load = self.join(Role.VIEWER), make_load(self.job, "Box", None)
        path = self.url("loads:add-reading", load.pk, "spot")
        self.assertEqual(self.theirs.post(path, SPOT).status_code, 403)
        self.client.post(self.url("jobs:role", member.pk), {"role": int(Role.MEASURER)})
        self.assertEqual(self.theirs.post(path, SPOT).status_code, 302)
        refused = self.client.post(self.url("jobs:role", member.pk), {"role": int(Role.OWNER)})
        self.assertEqual(refused.status_code, 422)
        member.refresh_from_db()
        self.assertEqual(member.role, Role.MEASURER)
        self.assertEqual(
            self.theirs.post(self.url("jobs:role", member.pk), {"role": 1}).status_code, 403
        )

    def test_who_did_what_stands_in_the_changes_and_on_the_sheet(self):
        self.join()
        load = make_load(self.job, "Box", 120.0)
        self.assertEqual(entered_by(self.job), "")
        self.theirs.post(self.url("loads:add-reading", load.pk, "spot"), SPOT)
        reading = Reading.objects.get(type="spot")
        self.assertEqual(reading.made_by, self.other.username)
        change = self.job.changes.first()
        self.assertEqual((change.made_by, change.user), (self.other.username, self.other))
        self.assertContains(self.client.get(self.url("jobs:changes")), self.other.username)
        owner, other = self.user.username, self.other.username
        self.assertEqual(entered_by(self.job), f"{owner} 1\xa0reading; {other} 1\xa0reading")
        self.assertContains(self.client.get(self.url("sheets:sheet")), "entered by")
        self.assertIsNone(acting())

    def test_a_measurer_undoes_only_their_own(self):
        self.join()
        load = make_load(self.job, "Box", None)
        self.client.post(self.url("loads:add-reading", load.pk, "spot"), SPOT)
        path = self.url("jobs:undo", self.job.changes.first().pk)
        refused = self.theirs.post(path)
        self.assertContains(refused, f"{self.user.username} entered this", status_code=403)
        self.theirs.post(self.url("loads:add-reading", load.pk, "label"), {"watts": "90"})
        self.theirs.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertEqual(load.readings.live().get().type, "spot")
        self.theirs.post(self.url("loads:add-reading", load.pk, "label"), {"watts": "90"})
        self.client.post(self.url("jobs:undo", self.job.changes.filter(undone=False)[0].pk))
        self.assertEqual(load.readings.live().get().type, "spot")

    def test_a_plan_offers_to_undo_only_what_one_may(self):
        self.join()
        load, plan = make_load(self.job, "Box", None), self.url("plans:current")
        self.theirs.post(self.url("loads:add-reading", load.pk, "spot"), SPOT)
        self.assertContains(self.theirs.get(plan), "Last change in this job")
        self.client.post(self.url("loads:add-reading", load.pk, "label"), {"watts": "90"})
        self.assertNotContains(self.theirs.get(plan), "Last change in this job")
        self.assertContains(self.client.get(plan), "Last change in this job")

    def test_the_owner_is_not_a_member_too(self):
        _, token = people.invite(Invitation(job=self.job, name="me", by_link=True))
        self.client.post(reverse("jobs:join", args=[token]))
        self.assertFalse(self.job.members.exists())
        self.theirs.post(reverse("jobs:join", args=[token]))
        self.assertEqual(self.job.members.get().user, self.other)
        refused = self.invited(name=self.user.username.upper(), how="name")
        self.assertContains(refused, "You own this job already", status_code=422)


class RolesTest(TwoPeopleTest):
    """Each role on every address of a job."""

    def setUp(self):
        super().setUp()
        load = fill(self.job)
        self.records = {
            "load": load,
            "plan": self.job.plans.first(),
            "supply": self.job.supplies.first(),
            "trial": self.job.trials.first(),
            "capture": load.captures.first(),
            "session": load.sessions.first(),
            "logger": load.loggers.first(),
            "reading": load.readings.first(),
            "change": self.job.changes.first(),
        }
        self.words = {"kind": "spot", "of": "loads", "form": "plan.json", "paper": "a4"}
        self.words |= {"size": "small", "filename": "plan.json", "side": "output"}

    def paths(self):
        """Name and path of every address of the job that asks for a role."""
        for name, converters in addresses():
            # Deleting and restoring are the owner's: for others there is no such job.
            if "job" not in converters or name in ("jobs:delete", "jobs:restore"):
                continue
            filled = {}
            for key in converters:
                record = self.records.get(key)
                filled[key] = self.words.get(key) or (record.pk if record else 1)
            yield name, reverse(name, kwargs={**filled, "job": self.job.pk})

    def stored(self):
        return {name: table.rows for name, table in package_of(self.job).tables.items()}

    def refused(self, role):
        """Addresses that refuse what a member sends; by their needs, and as asked."""
        member = self.join(role)
        asked = {
            name
            for name, path in self.paths()
            if needs_of(name).post > role and self.theirs.post(path).status_code in (403, 405)
        }
        member.delete()
        return {name for name, _ in self.paths() if needs_of(name).post > role}, asked

    def test_every_address_refuses_what_is_beyond_a_role(self):
        before = self.stored()
        names = {name for name, _ in self.paths()}
        for role, allowed in ((Role.VIEWER, VIEWED), (Role.MEASURER, VIEWED | MEASURED)):
            with self.subTest(role=role):
                beyond, refused = self.refused(role)
                self.assertEqual(names - beyond, allowed)
                self.assertEqual(refused, beyond)
                self.assertEqual(self.stored(), before)

    def test_pages_offer_only_what_the_role_may_do(self):
        for role in (Role.VIEWER, Role.MEASURER):
            member = self.join(role)
            beyond, seen = set(), 0
            for name, path in self.paths():
                answer = self.theirs.get(path)
                if answer.status_code != 200 or "text/html" not in answer["Content-Type"]:
                    continue
                seen += 1
                for target, method in self.offered(answer.content.decode(), path):
                    needs = self.needs(target)
                    if needs and (needs.post if method == "post" else needs.see) > role:
                        beyond.add((name, method, target))
            self.assertEqual(beyond, set())
            self.assertGreater(seen, 30)
            member.delete()

    def offered(self, page, path):
        """What a page links to and sends to."""
        for tag in re.findall(r"<(?:a|form|button|div|section|p)\b[^>]*>", page):
            if href := re.search(r'\shref="(/[^"#?]*)', tag):
                yield href.group(1), "get"
            if post := re.search(r'\shx-post="(/[^"?]*)', tag):
                yield post.group(1), "post"
            if tag.startswith("<form") and 'method="post"' in tag:
                action = re.search(r'\saction="(/[^"?]*)', tag)
                yield (action.group(1) if action else path), "post"

    def needs(self, path):
        try:
            return getattr(resolve(path).func, "needs", None)
        except Resolver404:
            return None


class SecretsTest(TwoPeopleTest):
    """Each secret opens its own door and no other."""

    def test_a_secret_of_one_kind_is_none_of_another(self):
        load = make_load(self.job, "Box", 90.0)
        secrets = {
            "link": add_link(ShareLink(job=self.job, shows="list", name="Ada"))[1],
            "invitation": people.invite(Invitation(job=self.job, name="Ben", by_link=True))[1],
            "program": add_token(ApiToken(job=self.job, name="Script", adds=True))[1],
            "logger": add_logger(load, "Meter")[1],
        }
        opened = {}
        for kind, secret in secrets.items():
            bearer = {"Authorization": f"Bearer {secret}"}
            sample = "time,watts\n1800000000,5\n1800000001,5\n"
            answers = {
                "link": Client().get(reverse("share:reader", args=[secret])),
                "invitation": self.theirs.get(reverse("jobs:join", args=[secret])),
                "program": Client().get("/api/v1/job/", headers=bearer),
                "logger": Client().post("/api/v1/samples/", sample, "text/csv", headers=bearer),
            }
            opened[kind] = [door for door, answer in answers.items() if answer.status_code == 200]
        self.assertEqual(opened, {kind: [kind] for kind in secrets})

    def test_two_hands_on_one_reading(self):
        self.join()
        load = make_load(self.job, "Box", None)
        reading = add_reading(load, "label", {"watts": 90.0})
        path = self.url("loads:edit-reading", load.pk, reading.pk)
        entered = {"watts": "95", "version": reading.version}
        self.assertEqual(self.theirs.post(path, entered).status_code, 302)
        late = self.client.post(path, {**entered, "watts": "99"})
        self.assertContains(late, "changed in another window", status_code=422)
        reading.refresh_from_db()
        self.assertEqual(reading.data["watts"], 95)
