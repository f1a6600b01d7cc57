"""Photos beside a reading: drawn anew, shown, carried, and never another's."""

import json
import zipfile
from io import BytesIO
from unittest import mock

from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image
from PIL.ExifTags import Base

from needle.document import DocumentError
from tests.web.base import SPOT, SiteTest, import_job, make_load, make_supply
from web.loads.models import Photo
from web.loads.photos import LARGE_PX, NoPicture, drawn_anew
from web.sheets.exchange import export_job


def picture(kind="JPEG", size=(400, 200), **more):
    content = BytesIO()
    mode = "RGBA" if kind in ("PNG", "WEBP") else "RGB"
    Image.new(mode, size, (200, 60, 20)).save(content, kind, **more)
    return content.getvalue()


def picture_file(content=None):
    """A picture as a form sends it."""
    return SimpleUploadedFile("display.jpg", content or picture(), "image/jpeg")


class DrawnAnewTest(SiteTest):
    def test_metadata_is_left_behind_and_the_picture_turned(self):
        exif = Image.Exif()
        exif[Base.Orientation] = 6
        exif[Base.Make] = "Phone of Zanzibar"
        drawn = drawn_anew(BytesIO(picture(exif=exif)))
        self.assertNotIn(b"Zanzibar", drawn.large)
        self.assertEqual((drawn.width, drawn.height), (200, 400))
        self.assertEqual(dict(Image.open(BytesIO(drawn.large)).getexif()), {})

    def test_every_kind_and_any_size(self):
        for kind in ("JPEG", "PNG", "WEBP"):
            with self.subTest(kind=kind):
                drawn = drawn_anew(BytesIO(picture(kind, (5000, 1000))))
                self.assertEqual((drawn.width, drawn.height), (LARGE_PX, LARGE_PX // 5))
                self.assertEqual(Image.open(BytesIO(drawn.small)).format, "JPEG")

    def test_the_largest_camera_is_read_near_the_size_that_is_kept(self):
        drawn = drawn_anew(BytesIO(picture("JPEG", (8160, 6120))))
        self.assertEqual((drawn.width, drawn.height), (LARGE_PX, LARGE_PX * 3 // 4))

    def test_what_is_no_picture_is_refused(self):
        whole = picture()
        for content, said in (
            (b"not at all", "no picture"),
            (whole[:300], "no picture"),
            (picture("GIF"), "no picture"),
            (b"x" * 10_000_001, "10 MB"),
            (picture("PNG", (4000, 4000)), "9 megapixels"),
        ):
            with self.subTest(said=said), self.assertRaisesRegex(NoPicture, said):
                drawn_anew(BytesIO(content))


class PhotoTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.load = make_load(self.job, watts=None)
        self.add = self.url("loads:add-reading", self.load.pk, "spot")

    def send(self, content, address=None, **more):
        fields = {**SPOT, "photo": picture_file(content), **more}
        return self.client.post(address or self.add, fields)

    def test_kept_with_its_reading_and_shown(self):
        self.send(picture())
        photo = Photo.objects.get()
        small, large = (
            self.url("loads:photo", self.load.pk, photo.pk, size) for size in ("small", "large")
        )
        page = self.client.get(self.url("loads:load", self.load.pk))
        self.assertContains(page, small)
        answer = self.client.get(large)
        self.assertEqual(answer["Content-Type"], "image/jpeg")
        self.assertEqual(Image.open(BytesIO(answer.content)).size, (400, 200))
        self.client.force_login(self.other)
        self.assertEqual(self.client.get(large).status_code, 404)

    def test_another_one_at_a_later_edit_and_out_again(self):
        self.send(picture())
        reading = self.load.readings.get()
        edit = self.url("loads:edit-reading", self.load.pk, reading.pk)
        self.send(picture("PNG"), edit, version=reading.version)
        self.assertEqual(reading.photos.live().count(), 2)
        first = reading.photos.first()
        self.client.post(self.url("loads:remove-photo", self.load.pk, first.pk))
        self.assertEqual(reading.photos.live().count(), 1)
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertEqual(reading.photos.live().count(), 2)
        self.assertEqual(bytes(Photo.objects.get(pk=first.pk).large)[:2], b"\xff\xd8")

    def test_no_picture_keeps_what_was_typed_and_stores_nothing(self):
        answer = self.send(b"<svg/>")
        self.assertContains(answer, "no picture that can be read", status_code=422)
        self.assertContains(answer, "231.2", status_code=422)
        self.assertFalse(self.load.readings.exists())

    def test_the_number_of_photos_of_a_job_is_limited(self):
        self.send(picture())
        with mock.patch("web.loads.reading_forms.MOST_PHOTOS", 1):
            answer = self.send(picture())
        self.assertContains(answer, "remove some", status_code=422)
        self.assertEqual(Photo.objects.count(), 1)

    def test_a_package_names_each_picture_once(self):
        self.send(picture())
        with zipfile.ZipFile(BytesIO(export_job(self.job))) as folder:
            files = {name: folder.read(name) for name in folder.namelist()}
        descriptor = json.loads(files["datapackage.json"])
        listed = next(item for item in descriptor["resources"] if item["name"] == "photo-1")
        for extra, said in (
            ([{**listed, "name": "photo-2"}], "a path of its own"),
            ([{**listed, "name": f"photo-{number}"} for number in range(2, 600)], "at most 500"),
        ):
            changed = {**descriptor, "resources": [*descriptor["resources"], *extra]}
            evil = BytesIO()
            with zipfile.ZipFile(evil, "w") as folder:
                for name, content in (files | {"datapackage.json": json.dumps(changed)}).items():
                    folder.writestr(name, content)
            with self.subTest(said=said), self.assertRaisesRegex(DocumentError, said):
                import_job(evil.getvalue(), self.other)

    def test_sent_twice_kept_once(self):
        key = "7b4f3b56-0d4b-4a8b-9a52-0f6f0a0a0a0a"
        for _ in range(2):
            self.send(picture(), client_key=key)
        self.assertEqual((self.load.readings.count(), Photo.objects.count()), (1, 1))

    def test_in_the_package_and_back(self):
        self.send(picture())
        package = export_job(self.job)
        theirs = import_job(package, self.other)
        copied = Photo.objects.get(reading__load__job=theirs)
        self.assertEqual((copied.width, copied.height), (400, 200))
        with zipfile.ZipFile(BytesIO(package)) as folder:
            self.assertIn("photos/photo-1.jpg", folder.namelist())

    def test_in_the_sheets_annex_where_it_is_wanted(self):
        self.send(picture())
        make_supply(self.job)
        plain = self.client.get(self.url("sheets:sheet"))
        self.assertContains(plain, "With photos")
        self.assertNotContains(plain, "large.jpg")
        self.assertContains(self.client.get(self.url("sheets:sheet") + "?photos=1"), "large.jpg")
        paper = self.url("sheets:pdf", "a4")
        without, with_photos = (self.client.get(paper + end).content for end in ("", "?photos=1"))
        self.assertEqual(without.count(b"/Subtype /Image"), 0)
        self.assertEqual(with_photos.count(b"/Subtype /Image"), 1)
