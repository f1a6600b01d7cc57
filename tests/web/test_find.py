"""Finding: one's own things, pages, words; nobody else's."""

from django.test import Client
from django.urls import reverse

from tests.web.base import SiteTest, make_job, make_load, make_supply
from web.find.finding import JOB_PAGES, hits
from web.jobs.access import Access, acting_as
from web.jobs.models import Role


class FindTest(SiteTest):
    def setUp(self):
        super().setUp()
        make_load(self.job, "Reef pump")
        make_supply(self.job, name="Reef bank")
        self.elsewhere = make_job(self.user, "Reef shed")
        make_load(self.elsewhere, "Reef lamp")
        make_load(make_job(self.other, "Reef house"), "Reef oven")

    def named(self, text, job=None):
        with acting_as(Access(job or self.job, Role.OWNER, self.user.username)):
            return [(hit.sort, hit.name) for hit in hits(self.user, job, text)]

    def test_things_of_all_jobs_those_of_the_open_one_first(self):
        self.assertEqual(
            self.named("reef", self.job),
            [
                ("job", "Reef shed"),
                ("load", "Reef pump"),
                ("load", "Reef lamp"),
                ("supply", "Reef bank"),
            ],
        )
        self.assertEqual(
            [name for sort, name in self.named("reef", self.elsewhere) if sort == "load"],
            ["Reef lamp", "Reef pump"],
        )

    def test_removed_things_are_not_found(self):
        self.client.post(reverse("jobs:remove", args=[self.elsewhere.pk]))
        self.assertNotIn(("load", "Reef lamp"), self.named("reef"))

    def test_pages_by_other_words_and_words_of_the_glossary(self):
        self.assertIn(("page", "Will it start?"), self.named("inrush", self.job))
        self.assertNotIn(("page", "Will it start?"), self.named("inrush"))
        self.assertIn(("word", "duty"), self.named("DUTY"))

    def test_without_letters_the_pages_of_the_job(self):
        named = self.named("", self.job)
        self.assertEqual([name for _, name in named][: len(JOB_PAGES)], [p[0] for p in JOB_PAGES])

    def test_as_a_list_and_as_a_page(self):
        url = reverse("find:in-job", args=[self.job.pk])
        page = self.client.get(url, {"q": "reef"})
        self.assertContains(page, "<h1>Find</h1>")
        part = self.client.get(url, {"q": "xyzzy"}, headers={"HX-Request": "true"})
        self.assertNotContains(part, "<h1>")
        self.assertContains(part, "Nothing found for “xyzzy”")
        self.assertEqual(Client().get(reverse("find:find")).status_code, 302)
