"""Bytes in a storage beside the database: written, read, counted, moved, deleted once unused."""

import importlib.util
from datetime import timedelta
from io import BytesIO
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock, skipUnless

from django.core.exceptions import ImproperlyConfigured, SuspiciousOperation
from django.core.files.storage import InMemoryStorage, storages
from django.core.management import CommandError, call_command
from django.db import connection, transaction
from django.test import SimpleTestCase, override_settings
from django.utils import timezone
from PIL import Image

from tests.web.base import SPOT, SiteTest, import_job, make_load
from tests.web.test_photos import picture_file
from web.bench.models import Capture
from web.common import stored_bytes
from web.common.storage_url import storage_of
from web.common.stored_bytes import (
    BytesLostError,
    BytesUnreachableError,
    StoredBytes,
    forget_unused_bytes,
)
from web.jobs import actions
from web.loads.models import Photo
from web.sheets.exchange import export_job

IN_MEMORY = "django.core.files.storage.InMemoryStorage"
BESIDE = {
    "default": {"BACKEND": IN_MEMORY},
    "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"},
    "evidence": {"BACKEND": IN_MEMORY},
}
WITHOUT = {name: BESIDE[name] for name in ("default", "staticfiles")}
NIGHT = b"night" * 1000


def display():
    """A photo of many bytes."""
    content = BytesIO()
    Image.effect_noise((400, 200), 90).save(content, "JPEG")
    return picture_file(content.getvalue())


def objects():
    """Paths of all objects."""
    place = storages["evidence"]
    folders, _ = place.listdir("")
    return {f"{folder}/{name}" for folder in folders for name in place.listdir(folder)[1]}


def as_if_later():
    """Two days from now."""
    later = timezone.now() + timedelta(days=2)
    return mock.patch.object(stored_bytes.timezone, "now", lambda: later)


class BesideTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.enterContext(override_settings(STORAGES=BESIDE))
        self.load = make_load(self.job, watts=None)

    def capture(self, content=NIGHT):
        return Capture.objects.create(load=self.load, name="Night", kept=True, packed=content)

    def column_of(self, capture):
        with connection.cursor() as cursor:
            cursor.execute("SELECT packed FROM bench_capture WHERE id = %s", [capture.pk])
            return bytes(cursor.fetchone()[0])


class StoredBytesTest(BesideTest):
    def test_they_lie_beside_the_database_and_are_fetched_when_asked_for(self):
        made = self.capture()
        self.assertLess(len(self.column_of(made)), 60)
        read = Capture.objects.get(pk=made.pk)
        self.assertEqual((len(objects()), len(read.packed)), (1, 5000))
        with mock.patch.object(InMemoryStorage, "open", side_effect=OSError):
            self.assertTrue(read.packed)
            with self.assertRaises(BytesUnreachableError):
                bytes(read.packed)
        self.assertEqual(bytes(read.packed), NIGHT)
        self.assertEqual(read.packed, NIGHT)

    def test_few_bytes_stay_in_their_column(self):
        self.assertEqual(self.column_of(self.capture(b"few")), b"few")
        self.assertEqual(objects(), set())

    def test_what_did_not_change_is_not_written_again_and_a_new_row_has_its_own(self):
        made = self.capture()
        made.name = "Tuesday night"
        actions.save_change(self.job, made, "Renamed")
        self.assertEqual(len(objects()), 1)
        copy = Capture.objects.create(load=self.load, packed=Capture.objects.get().packed)
        self.assertEqual(len(objects()), 2)
        self.assertNotEqual(self.column_of(made), self.column_of(copy))
        self.assertEqual(bytes(copy.packed), NIGHT)

    def test_undo_brings_bytes_back(self):
        made = self.capture()
        made.packed = b"other" * 1000
        actions.save_change(self.job, made, "Read anew")
        self.assertIsNotNone(actions.undo(self.job, actions.latest_change(self.job).pk))
        self.assertEqual(bytes(Capture.objects.get().packed), NIGHT)

    def test_only_what_no_row_refers_to_is_deleted_and_not_before_a_day(self):
        made, gone = self.capture(), self.capture()
        Capture.objects.filter(pk=gone.pk).delete()
        with self.assertRaises(RuntimeError), transaction.atomic():
            self.capture()
            raise RuntimeError("the row is not stored")
        self.assertEqual((forget_unused_bytes(), len(objects())), (0, 3))
        with as_if_later():
            self.assertEqual(forget_unused_bytes(), 2)
        self.assertEqual(objects(), {Capture.objects.get(pk=made.pk).packed.name})

    def test_the_quota_counts_them(self):
        self.capture()
        self.capture(b"few")
        self.assertEqual(Capture.quota_of(self.user).used, 5003)

    def test_nobody_writes_a_reference_to_the_bytes_of_others(self):
        theirs = self.column_of(self.capture())
        with self.assertRaises(SuspiciousOperation):
            self.capture(theirs)

    def test_a_package_has_them(self):
        self.client.post(
            self.url("loads:add-reading", self.load.pk, "spot"), {**SPOT, "photo": display()}
        )
        large = Photo.objects.get().large
        self.assertIsInstance(large, StoredBytes)
        again = import_job(export_job(self.job), self.user)
        copied = Photo.objects.get(reading__load__job=again).large
        self.assertEqual(bytes(copied)[:2], b"\xff\xd8")
        self.assertNotEqual(copied.name, large.name)

    def test_they_move_there_and_back(self):
        with override_settings(STORAGES=WITHOUT):
            made, few = self.capture(), self.capture(b"few")
            self.assertEqual(self.column_of(made), NIGHT)
            with self.assertRaisesRegex(CommandError, "STEADY_FILES_URL"):
                call_command("move_bytes")
        for back, beside in (((), 1), (("--back",), 0)):
            call_command("move_bytes", *back, stdout=mock.Mock())
            self.assertEqual(self.column_of(made) == NIGHT, not beside)
            self.assertEqual(bytes(Capture.objects.get(pk=made.pk).packed), NIGHT)
            self.assertEqual(bytes(Capture.objects.get(pk=few.pk).packed), b"few")
        with as_if_later():
            self.assertEqual(forget_unused_bytes(), 1)


class FolderTest(BesideTest):
    def test_a_folder_that_only_this_site_reads(self):
        folder = Path(self.enterContext(TemporaryDirectory())) / "files"
        evidence = {"evidence": storage_of(f"file://{folder}")}
        with override_settings(STORAGES={**WITHOUT, **evidence}):
            self.assertEqual(forget_unused_bytes(), 0)
            made = self.capture()
            self.assertEqual(bytes(Capture.objects.get(pk=made.pk).packed), NIGHT)
            (file,) = (path for path in folder.rglob("*") if path.is_file())
            self.assertEqual(
                (file.stat().st_mode & 0o777, folder.stat().st_mode & 0o777), (0o600, 0o700)
            )
            file.unlink()
            with self.assertRaisesRegex(BytesLostError, "not there"):
                bytes(Capture.objects.get(pk=made.pk).packed)
            file.write_bytes(NIGHT[:-1])
            with self.assertRaisesRegex(BytesLostError, "4999 bytes in place of 5000"):
                bytes(Capture.objects.get(pk=made.pk).packed)


class UnreachableTest(BesideTest):
    def setUp(self):
        super().setUp()
        self.client.raise_request_exception = False

    def test_a_photo_that_is_not_taken_takes_its_reading_with_it(self):
        address = self.url("loads:add-reading", self.load.pk, "spot")
        for headers in ({}, {"HX-Request": "true"}):
            with mock.patch.object(InMemoryStorage, "save", side_effect=OSError):
                answer = self.client.post(address, {**SPOT, "photo": display()}, headers=headers)
            self.assertEqual((answer.status_code, answer["Retry-After"]), (503, "60"))
            self.assertIn(b"Nothing was stored. Try again", answer.content)
            self.assertEqual(self.load.readings.count(), 0)

    def test_a_photo_that_is_not_given_breaks_no_page(self):
        self.client.post(
            self.url("loads:add-reading", self.load.pk, "spot"), {**SPOT, "photo": display()}
        )
        photo = self.url("loads:photo", self.load.pk, Photo.objects.get().pk, "large")
        for error, advice in ((OSError, b"Try again"), (FileNotFoundError, b"a backup may")):
            with mock.patch.object(InMemoryStorage, "open", side_effect=error):
                answer = self.client.get(photo)
                page = self.client.get(self.url("loads:load", self.load.pk))
            self.assertEqual((answer.status_code, page.status_code), (503, 200))
            self.assertIn(advice, answer.content)
            self.assertNotIn(b"Nothing was stored", answer.content)
            self.assertNotIn(b"what you typed", answer.content)
        self.assertEqual(self.client.get(photo).status_code, 200)


class StorageUrlTest(SimpleTestCase):
    def test_a_folder(self):
        named = storage_of("file:///srv/steady%20needle/files")
        self.assertEqual(named["OPTIONS"]["location"], "/srv/steady needle/files")

    @skipUnless(importlib.util.find_spec("botocore"), "only make scale has it")
    def test_a_bucket(self):
        named = storage_of("s3://key:se%2Fcret@127.0.0.1:9000/evidence?tls=no&region=here")[
            "OPTIONS"
        ]
        self.assertEqual(named["secret_key"], "se/cret")
        self.assertEqual(named["endpoint_url"], "http://127.0.0.1:9000")
        self.assertEqual((named["bucket_name"], named["region_name"]), ("evidence", "here"))

    def test_anything_else_is_refused(self):
        for url in ("ftp://host/bucket", "s3://host", "s3://host/a/b", "file://host/x", "file:///"):
            with (
                self.subTest(url=url),
                self.assertRaisesRegex(ImproperlyConfigured, "STEADY_FILES_URL"),
            ):
                storage_of(url)
