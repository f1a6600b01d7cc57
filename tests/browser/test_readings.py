"""Readings as people take them, in a browser: a photo from the phone, fields of a kind, units."""

from io import BytesIO

from PIL import Image
from playwright.sync_api import expect

from tests.browser.base import PHONE, BrowserTest


def photo():
    content = BytesIO()
    Image.new("RGB", (1200, 900), (180, 200, 160)).save(content, "JPEG")
    return {"name": "IMG_0001.jpg", "mimeType": "image/jpeg", "buffer": content.getvalue()}


class ReadingsPathTest(BrowserTest):
    def test_a_reading_with_a_photo_on_the_phone(self):
        page = self.signed_in(viewport=PHONE)
        load = self.clinic().loads.get(name="Label printer")
        self.go(page, "loads:load", load.pk)
        form = page.locator("#reading-form")
        form.get_by_label("Watts").fill("0.2 A @ 230 V")
        expect(form.locator(".echo").first).to_contain_text("VA on AC")
        form.get_by_label("Photo").set_input_files(photo())
        form.get_by_role("button", name="Save this reading").click()
        picture = page.get_by_role("img", name="Photo: ")
        expect(picture).to_be_visible()
        # It is shown from its own address, drawn anew.
        self.assertTrue(picture.evaluate("image => image.decode().then(() => image.naturalWidth)"))

    def test_the_fields_of_a_kind_come_with_it(self):
        page = self.signed_in()
        self.go(page, "loads:add")
        page.get_by_label("What do you call it?").fill("Hall lamp")
        page.get_by_label("What is it?").select_option("lamp")
        page.get_by_text("More about it").click()
        expect(page.get_by_label("Never defrosts")).to_have_count(0)
        expect(page.get_by_label("What do you call it?")).to_have_value("Hall lamp")
        page.get_by_label("What is it?").select_option("fridge")
        expect(page.get_by_label("Never defrosts")).to_have_count(1)

    def test_fahrenheit_and_twelve_hours(self):
        page = self.signed_in()
        page.goto(self.url("accounts:units"))
        page.get_by_label("Temperatures").select_option("°F")
        page.get_by_label("Times of day").select_option("6:30 pm")
        page.get_by_role("button", name="Save").click()
        self.go(page, "plans:current")
        expect(page.locator("h1 .sub")).to_contain_text("75.2 °F indoors")
        expect(page.locator(".answer-next")).to_contain_text("6:00 pm")
        expect(page.locator("#what-if")).to_contain_text("75 °F")
