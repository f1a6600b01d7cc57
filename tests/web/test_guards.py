"""Guards of a public site: sizes, guesses, what is shared, and what comes twice."""

from __future__ import annotations

from datetime import timedelta
from unittest import mock

from django.conf import settings
from django.contrib.auth import get_user_model
from django.contrib.auth.models import Group
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import call_command
from django.test import Client, RequestFactory, override_settings
from django.urls import reverse
from django.utils import timezone

from tests.web.base import SiteTest, clear_caches, make_load
from tests.web.test_photos import picture
from web.accounts import views as accounts
from web.accounts.guards import DEMO_NAME
from web.bench.loggers import add_logger, collect, forget_old_posts, take
from web.bench.models import Chunk
from web.common.bodies import MOST_BYTES, USUAL_BYTES, bounded_bodies
from web.common.quotas import QuotaExceededError
from web.common.rates import address_of
from web.demo.visits import VISITORS
from web.jobs.models import Job
from web.loads.actions import add_photo, add_reading, forget_old_photos
from web.loads.models import Load, Photo
from web.loads.photos import Picture
from web.meters.models import Meter
from web.sheets.exchange import add_package, export_job, understood


class BodyTest(SiteTest):
    def status(self, path, size):
        request = RequestFactory().post(path, b"x", content_type="text/plain")
        request.META["CONTENT_LENGTH"] = str(size)
        read = mock.Mock(return_value=mock.Mock(status_code=200))
        response = bounded_bodies(read)(request)
        self.assertEqual(read.called, response.status_code == 200)
        return response.status_code

    def test_each_address_takes_what_it_needs(self):
        load = make_load(self.job, "Box", None)
        upload, sign_in = self.url("bench:upload", load.pk), "/sign-in/"
        self.assertEqual(self.status(sign_in, USUAL_BYTES), 200)
        for path in (sign_in, "/api/v1/samples/", "/nowhere/", "/", self.url("loads:add")):
            with self.subTest(path=path):
                self.assertEqual(self.status(path, USUAL_BYTES + 1), 413)
        self.assertEqual(self.status(upload, MOST_BYTES), 200)
        self.assertEqual(self.status(upload, MOST_BYTES + 1), 413)
        reading = self.url("loads:add-reading", load.pk, "spot")
        self.assertEqual(self.status(reading, 11_000_000), 200)
        self.assertEqual(self.status(reading, 13_000_000), 413)

    def test_it_comes_before_whatever_reads_a_body(self):
        order = settings.MIDDLEWARE
        ours = order.index("web.common.bodies.bounded_bodies")
        self.assertLess(ours, order.index("django.middleware.csrf.CsrfViewMiddleware"))


class AddressTest(SiteTest):
    def address(self, text):
        request = RequestFactory().get("/")
        request.META["REMOTE_ADDR"] = text
        return address_of(request)

    def test_a_customers_ipv6_network_is_one_client(self):
        self.assertEqual(self.address("2001:db8:1:2::5"), self.address("2001:db8:1:2:ffff::9"))
        self.assertNotEqual(self.address("2001:db8:1:2::5"), self.address("2001:db8:1:3::5"))
        self.assertEqual(self.address("::ffff:192.0.2.7"), "192.0.2.7")
        for text in ("192.0.2.7", "", "unix"):
            self.assertEqual(self.address(text), text)


class GuessTest(SiteTest):
    def setUp(self):
        super().setUp()
        clear_caches()
        self.owner = get_user_model().objects.create_user("heron", password="long enough 1")

    def sign_in(self, password, address):
        data = {"username": "Heron", "password": password}
        return Client(REMOTE_ADDR=address).post("/sign-in/", data)

    def test_a_name_guessed_at_from_everywhere_is_slowed_not_shut_out(self):
        few = mock.patch.object(accounts, "NAME_GUESSES", accounts.Rate("few-names", 3, 3600))
        with few, override_settings(AXES_ENABLED=False):
            for number in range(3):
                self.assertEqual(self.sign_in("wrong", f"192.0.2.{number}").status_code, 200)
            tries = [self.sign_in("wrong", f"192.0.2.{number}") for number in range(10, 13)]
            self.assertIn(429, [answer.status_code for answer in tries])
            later = timezone.now() + timedelta(seconds=11)
            with mock.patch("web.common.rates.timezone.now", return_value=later):
                self.assertEqual(self.sign_in("long enough 1", "192.0.2.99").status_code, 302)

    def test_wrong_own_passwords_count(self):
        for path, data in (
            ("/account/password/", {"old_password": "wrong"}),
            ("/account/delete/", {"password": "wrong"}),
        ):
            clear_caches()
            client = Client()
            client.force_login(self.owner)
            statuses = [client.post(path, data).status_code for _ in range(12)]
            self.assertEqual(statuses[-1], 429, path)
            self.assertNotIn(429, statuses[:10])
        self.assertTrue(get_user_model().objects.filter(pk=self.owner.pk).exists())

    def test_trying_out_which_names_exist_ends(self):
        data = {"username": "heron", "password1": "long enough 2", "password2": "long enough 2"}
        statuses = [Client().post("/sign-up/", data).status_code for _ in range(22)]
        self.assertEqual((statuses[0], statuses[-1]), (422, 429))

    def test_the_account_lists_its_own_sign_ins(self):
        browser = {"User-Agent": "Kitchen tablet"}
        client = Client(headers=browser, REMOTE_ADDR="192.0.2.44")
        client.post("/sign-in/", {"username": "heron", "password": "long enough 1"})
        page = client.get("/account/")
        self.assertContains(page, "192.0.2.44")
        self.assertContains(page, "Kitchen tablet")
        for number in range(6):
            again = Client(REMOTE_ADDR=f"192.0.2.{100 + number}")
            again.post("/sign-in/", {"username": "heron", "password": "long enough 1"})
        shown = [one.ip_address for one in client.get("/account/").context["sign_ins"]]
        self.assertEqual(shown, [f"192.0.2.{number}" for number in range(105, 100, -1)])
        self.assertNotContains(self.client.get("/account/"), "192.0.2.44")

    def test_signing_out_clears_what_was_kept(self):
        answer = self.client.post("/sign-out/")
        self.assertEqual(answer["Clear-Site-Data"], '"cache"')


@override_settings(DEMO=True)
class SharedDemoTest(SiteTest):
    def test_what_everybody_looks_at_cannot_be_taken_away(self):
        shared = get_user_model().objects.create_user(DEMO_NAME)
        job = Job.objects.create(owner=shared, name="Clinic")
        meter = Meter.objects.create(owner=shared, name="Plug", kind="plug")
        self.client.force_login(shared)
        for path, data in (
            (f"/jobs/{job.pk}/remove/", {}),
            (f"/jobs/{job.pk}/delete/", {"typed": "Clinic"}),
            (f"/meters/{meter.pk}/remove/", {}),
        ):
            self.assertRedirects(self.client.post(path, data), "/jobs/")
        self.assertTrue(Job.objects.live().filter(pk=job.pk).exists())
        self.assertTrue(Meter.objects.filter(pk=meter.pk, removed_at=None).exists())


class VisitorsTest(SiteTest):
    @override_settings(DEMO=True)
    def test_visitors_at_one_time_are_capped(self):
        for number in range(2):
            visitor = get_user_model().objects.create_user(f"visitor-{number}")
            visitor.groups.add(Group.objects.get_or_create(name=VISITORS)[0])
        with mock.patch("web.demo.visits.MOST_VISITORS", 2):
            self.assertEqual(Client().post("/look-around/").status_code, 429)
        # There is room, but nothing is prepared here.
        self.assertEqual(Client().post("/look-around/").status_code, 404)


class TwiceTest(SiteTest):
    def test_a_post_that_comes_again_after_its_capture_counts_once(self):
        logger, _ = add_logger(make_load(self.job, "Box", None), "Meter")
        start = timezone.now().timestamp() - 600
        rows = "".join(f"{start + second:.0f},{90 + second % 5}\n" for second in range(300))
        body = f"time,watts\n{rows}".encode()
        self.assertEqual((take(logger, body), take(logger, body)), (300, 0))
        self.assertIsNotNone(collect(logger, "Night"))
        self.assertEqual(take(logger, body), 0)
        self.assertIsNone(collect(logger, "Again"))
        forget_old_posts()
        self.assertEqual(Chunk.objects.count(), 1)
        Chunk.objects.update(last_s=start - 8 * 86_400)
        forget_old_posts()
        self.assertFalse(Chunk.objects.exists())

    def test_bytes_of_removed_photos_go_with_their_month(self):
        load = make_load(self.job, "Box", None)
        reading = add_reading(load, "label", {"watts": 90.0})
        photos = [add_photo(reading, Picture(picture(), picture(), 8, 8)) for _ in range(3)]
        now = timezone.now()
        Photo.objects.filter(pk=photos[0].pk).update(removed_at=now - timedelta(days=31))
        Photo.objects.filter(pk=photos[1].pk).update(removed_at=now - timedelta(days=1))
        forget_old_photos()
        left = set(Photo.objects.values_list("pk", flat=True))
        self.assertEqual(left, {photos[1].pk, photos[2].pk})

    def test_tidying_runs(self):
        call_command("tidy", stdout=mock.Mock())


class QuotaTest(SiteTest):
    """What is too much is refused with a sentence, and nothing is half-stored."""

    def test_the_account_page_shows_what_is_stored(self):
        reading = add_reading(make_load(self.job), "spot", {"state": "running", "watts": 90})
        add_photo(reading, Picture(bytes(700_000), bytes(50_000), 4, 3))
        page = self.client.get(reverse("accounts:account"))
        self.assertContains(page, "1 of 1,000")
        self.assertContains(page, "0.8 of 300 MB")

    @override_settings(MOST_JOBS=1)
    def test_jobs_added_and_imported(self):
        form = {"name": "Second", "mains": "230-50", "currency": "EUR"}
        self.assertContains(self.client.post(reverse("jobs:list"), form), "1 of 1", status_code=413)
        with self.assertRaises(QuotaExceededError):
            add_package(understood(export_job(self.job)), self.user)
        self.assertEqual(Job.objects.count(), 1)

    @override_settings(MOST_PHOTO_MB=0)
    def test_a_photo_with_its_reading(self):
        load = make_load(self.job, "Box", None)
        for headers, words in (
            ({}, "<h1>There is no room"),
            ({"HX-Request": "true"}, "Your photos"),
        ):
            photo = SimpleUploadedFile("box.jpg", picture())
            form = {"state": "running", "watts": "90", "photo": photo}
            adding = self.url("loads:add-reading", load.pk, "spot")
            answer = self.client.post(adding, form, headers=headers)
            self.assertContains(answer, words, status_code=413)
        self.assertFalse(Photo.objects.exists() or load.readings.exists())

    @override_settings(MOST_CAPTURE_MB=0)
    def test_a_capture_is_refused_on_its_form(self):
        load = make_load(self.job, "Box", None)
        file = SimpleUploadedFile("box.csv", b"time,watts\n0,1\n1,2\n2,3\n3,4\n")
        answer = self.client.post(self.url("bench:upload", load.pk), {"file": file})
        self.assertContains(answer, "Your captures take", status_code=422)
        self.assertFalse(load.captures.exists())

    @override_settings(MOST_SAMPLES=3)
    def test_samples_of_a_logger(self):
        _, token = add_logger(make_load(self.job), "plug")
        post = "".join(f'{{"time": {1.8e9 + n}, "watts": 5}}\n' for n in range(4))
        answer = Client().post(
            "/api/v1/samples/",
            post,
            content_type="application/x-ndjson",
            headers={"Authorization": f"Bearer {token}"},
        )
        self.assertContains(answer, "samples that wait", status_code=400)
        self.assertFalse(Chunk.objects.exists())


class MetricsTest(SiteTest):
    def test_only_for_the_networks_named(self):
        self.client.get(self.url("loads:survey"))
        self.client.generic("ZANZIBAR", self.url("loads:survey"))
        self.assertEqual(self.client.get("/metrics/").status_code, 404)
        with override_settings(METRICS_FROM=["127.0.0.0/8"]):
            page = self.client.get("/metrics/")
            self.assertContains(page, 'address="loads:survey",method="GET",status="200"')
            self.assertNotContains(page, f"/jobs/{self.job.pk}")
            self.assertNotContains(page, "ZANZIBAR")
            other = self.client.get("/metrics/", REMOTE_ADDR="198.51.100.7")
            self.assertEqual(other.status_code, 404)


class LongListTest(SiteTest):
    def test_the_first_hundred_come_at_once_and_all_when_asked_for(self):
        Job.objects.bulk_create(Job(owner=self.user, name=f"Job {n:03}") for n in range(104))
        page = self.client.get("/jobs/")
        self.assertContains(page, "answer-line", 100)
        self.assertContains(page, "All 105\xa0jobs")
        page = self.client.get("/jobs/?all=1")
        self.assertContains(page, "answer-line", 105)
        self.assertNotContains(page, "All 105\xa0jobs")

    def test_a_survey_keeps_how_it_is_sorted_and_searches_all(self):
        Load.objects.bulk_create(
            Load(job=self.job, name=f"Lamp {n:03}", kind="led") for n in range(102)
        )
        page = self.client.get(self.url("loads:survey"), {"sort": "grade", "q": "lamp"})
        self.assertContains(page, "nothing known yet", 100)
        self.assertContains(page, 'href="?all=1&amp;sort=grade&amp;q=lamp"')
        page = self.client.get(self.url("loads:survey"), {"all": "1"})
        self.assertContains(page, "nothing known yet", 102)
        found = self.client.get(self.url("loads:survey"), {"q": "Lamp 101"})
        self.assertContains(found, "nothing known yet", 1)
