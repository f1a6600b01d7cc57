"""One's own meters: listed, compared, chosen in readings, carried in packages."""

import json
import uuid
import zipfile
from io import BytesIO

from django.urls import reverse

from tests.web.base import SPOT, SiteTest, import_job, make_job, make_load
from web.common.models import StaleRecordError
from web.meters import actions
from web.meters.models import Meter, meters_of
from web.sheets.documents import add_load_document
from web.sheets.exchange import export_job


class MetersTest(SiteTest):
    def add(self, name="Blue plug", kind="plug", **more):
        return self.client.post(reverse("meters:add"), {"name": name, "kind": kind, **more})

    def compare(self, meter, pairs, **more):
        url = reverse("meters:compare", args=[meter.pk])
        return self.client.post(url, {"version": meter.version, "pairs": pairs, **more})

    def test_a_meter_is_listed_with_what_it_states(self):
        self.add(limit="2 %", counts="3", most_a="13 A", base_w="0.6 W", note="garage")
        page = self.client.get(reverse("meters:list"))
        for words in ("Blue plug", "±2 % ± 3 digits", "at most 13 A", "its own 0.6 W", "garage"):
            self.assertContains(page, words)
        again = self.add()
        self.assertContains(again, "You have a meter called", status_code=422)
        self.client.force_login(self.other)
        self.assertNotContains(self.client.get(reverse("meters:list")), "Blue plug")

    def test_a_meter_is_not_written_over_what_another_hand_stored(self):
        self.add()
        mine, theirs = Meter.objects.get(), Meter.objects.get()
        theirs.name = "Green plug"
        actions.change_meter(theirs)
        with self.assertRaises(StaleRecordError):
            actions.change_meter(mine)
        stored = Meter.objects.get()
        self.assertEqual((stored.name, stored.formerly), ("Green plug", ["Blue plug"]))

    def test_comparing_two_corrects_readings(self):
        self.add()
        self.add("Bench")
        blue, bench = self.user.meters.order_by("name")[1], self.user.meters.order_by("name")[0]
        self.compare(blue, "102 100\n306 W, 300 W", against=bench.pk)
        self.assertContains(self.client.get(reverse("meters:list")), "reads 2.0 % high")
        load = make_load(self.job, watts=None)
        url = self.url("loads:add-reading", load.pk, "spot")
        self.assertContains(self.client.get(url), "My meters")
        self.client.post(url, {"state": "running", "watts": "51 W", "instrument": "own:Blue plug"})
        stored = load.readings.get()
        self.assertEqual(stored.data["meter"], "Blue plug")
        self.assertEqual(stored.data["watts"], 51.0)
        page = self.client.get(self.url("loads:load", load.pk))
        self.assertContains(page, "50.0\u00a0W read on “Blue plug”")
        # It shows again in its form, and goes with the file of the load.
        edit = self.client.get(self.url("loads:edit-reading", load.pk, stored.pk))
        self.assertContains(edit, '<option value="own:Blue plug" selected>')
        document = json.loads(self.client.get(self.url("exchange:load-json", load.pk)).content)
        self.assertEqual([meter["name"] for meter in document["meters"]], ["Bench", "Blue plug"])

    def test_a_new_name_is_known_by_its_old_one(self):
        self.add()
        meter = self.user.meters.get()
        self.client.post(
            reverse("meters:edit", args=[meter.pk]),
            {"name": "Blue", "kind": "plug", "version": meter.version},
        )
        self.assertEqual(set(meters_of(self.user)), {"Blue", "Blue plug"})
        load = make_load(self.job)
        form = self.client.get(self.url("loads:add-reading", load.pk, "spot"))
        self.assertContains(form, 'value="own:Blue"', 1)

    def edited(self, load, **data):
        """The form of a load's only reading, and the reading after it was sent back unchanged."""
        stored = load.readings.create(type="spot", data=data)
        url = self.url("loads:edit-reading", load.pk, stored.pk)
        form = self.client.get(url).context["form"]
        shown = {field.name: field.value() for field in form if field.value() is not None}
        self.assertEqual(self.client.post(url, shown).status_code, 302)
        stored.refresh_from_db()
        return form, stored.data

    NAMED = {"state": "running", "watts": 51.0, "instrument": "clamp", "meter": "Blue plug"}

    def test_an_edit_keeps_a_meter_that_is_no_longer_among_ones_own(self):
        self.add("Other")
        form, data = self.edited(make_load(self.job, "A", watts=None), **self.NAMED)
        self.assertEqual(form["instrument"].value(), "own:Blue plug")
        self.assertIn("Blue plug (no longer among the meters)", str(form["instrument"]))
        self.assertEqual(data, self.NAMED)

    def test_an_edit_finds_a_meter_by_its_former_name(self):
        self.test_a_new_name_is_known_by_its_old_one()
        _, data = self.edited(make_load(self.job, "B", watts=None), **self.NAMED)
        self.assertEqual(data, self.NAMED | {"instrument": "plug", "meter": "Blue"})

    def test_an_edit_keeps_what_its_form_does_not_show(self):
        known = {"state": "running", "watts": 51.0, "instrument": "usb", "room_c": 31.0}
        form, data = self.edited(make_load(self.job, "A", watts=None), **known)
        self.assertEqual(data, known)
        self.assertEqual(form["instrument"].value(), "usb")

    def test_a_note_goes_out_with_a_load_and_comes_back(self):
        load = make_load(self.job, "A", watts=None)
        load.readings.create(type="spot", data={"watts": 50}, note="by the door")
        sent = self.client.get(self.url("exchange:load-json", load.pk)).content
        document = json.loads(sent) | {"name": "B"}
        document["readings"] += [{"type": "spot", "watts": 51, "note": "long " * 100}]
        made = add_load_document(self.job, document)
        short, long = made.known_readings()
        self.assertEqual((short.note, short.data), ("by the door", {"watts": 50}))
        self.assertEqual(long.to_document()["note"], "long " * 100)

    def test_an_old_name_is_not_given_to_another(self):
        self.test_a_new_name_is_known_by_its_old_one()
        self.assertContains(self.add(), "readings know it by that name", status_code=422)
        # One that comes with a package by the old name is the one that is here.
        load = make_load(self.job, "Fan", watts=None)
        load.readings.create(type="spot", data={"watts": 50, "meter": "Blue plug"})
        import_job(export_job(self.job), self.user)
        self.assertEqual(self.user.meters.count(), 1)

    def test_two_of_a_name_made_at_once_lock_nobody_out(self):
        for _ in range(2):
            Meter.objects.create(owner=self.user, name="Blue plug", kind="plug")
        self.assertContains(self.client.get(reverse("meters:list")), "Blue plug")

    def test_refusals_keep_what_was_typed(self):
        self.add()
        meter = self.user.meters.get()
        for pairs, said in (
            ("500 100", "cannot be the same load"),
            ("5", "write two figures"),
            ("5 kg 3", "Line 1"),
            ("0 3", "above 0 W"),
        ):
            with self.subTest(pairs=pairs):
                answer = self.compare(meter, pairs)
                self.assertContains(answer, said, status_code=422)
                self.assertContains(answer, pairs, status_code=422)
        load = make_load(self.job)
        self.client.post(
            reverse("meters:edit", args=[meter.pk]),
            {"name": "Blue plug", "kind": "plug", "most_a": "13", "version": meter.version},
        )
        answer = self.client.post(
            self.url("loads:add-reading", load.pk, "spot"),
            {"state": "running", "amps": "16", "instrument": "own:Blue plug"},
        )
        self.assertContains(answer, "at most 13 A", status_code=422)

    def test_removed_and_brought_back(self):
        self.add()
        meter = self.user.meters.get()
        self.client.post(reverse("meters:remove", args=[meter.pk]))
        self.assertEqual(meters_of(self.user), {})
        self.client.post(reverse("meters:bring-back", args=[meter.pk]))
        self.assertEqual(set(meters_of(self.user)), {"Blue plug"})

    def test_a_name_that_was_given_away_is_not_brought_back(self):
        self.add()
        old = self.user.meters.get()
        self.client.post(reverse("meters:remove", args=[old.pk]))
        Meter.objects.create(owner=self.user, name="Blue plug", kind="clamp")
        back = reverse("meters:bring-back", args=[old.pk])
        answer = self.client.post(back, follow=True)
        self.assertContains(answer, "Another meter has that name by now")
        self.assertEqual(meters_of(self.user)["Blue plug"].key, "clamp")
        self.client.force_login(self.other)
        self.assertEqual(self.client.post(back).status_code, 404)

    def test_two_clicks_make_one_meter_and_a_foreign_key_hands_out_nothing(self):
        key = uuid.uuid4()
        for _ in range(2):
            self.assertEqual(self.add(client_key=key, note="secret").status_code, 302)
        self.assertEqual(self.user.meters.count(), 1)
        self.client.force_login(self.other)
        self.add("Mine", client_key=key)
        mine = self.other.meters.get()
        self.assertEqual((mine.name, mine.note), ("Mine", ""))
        self.assertEqual(self.user.meters.get().name, "Blue plug")

    def test_two_compared_with_each_other_are_refused(self):
        self.add()
        self.add("Bench")
        bench, blue = self.user.meters.order_by("name")
        self.compare(blue, "102 100", against=bench.pk)
        answer = self.compare(bench, "100 102", against=blue.pk)
        self.assertContains(answer, "was compared with this one", status_code=422)

    def test_a_circle_made_at_once_ends(self):
        for name in ("Bench", "Blue plug", "Clip"):
            self.add(name)
        bench, blue, clip = self.user.meters.order_by("name")
        Meter.objects.filter(pk=bench.pk).update(against=blue, pairs=[[100, 102]])
        Meter.objects.filter(pk=blue.pk).update(against=bench, pairs=[[102, 100]])
        self.assertEqual(self.compare(clip, "101 100", against=bench.pk).status_code, 302)
        self.assertContains(self.client.get(reverse("meters:list")), "Clip")

    def test_a_package_contains_the_meters_of_its_readings(self):
        self.add(limit="2 %")
        self.add("Unused")
        load = make_load(self.job, watts=None)
        url = self.url("loads:add-reading", load.pk, "spot")
        self.client.post(url, {**SPOT, "instrument": "own:Blue plug"})
        package = export_job(self.job)
        with zipfile.ZipFile(BytesIO(package)) as folder:
            self.assertNotIn("Unused", folder.read("meters.csv").decode())
        theirs = import_job(package, self.other)
        self.assertEqual(meters_of(self.other)["Blue plug"].limit, 0.02)
        import_job(package, self.other)
        self.assertEqual(Meter.objects.filter(owner=self.other).count(), 1)
        mine, copied = (job.loads.get().profile() for job in (self.job, theirs))
        self.assertEqual(mine, copied)

    def test_packages_without_meters_still_come_in(self):
        make_load(self.job)
        self.assertEqual(import_job(export_job(self.job), self.other).loads.count(), 1)
        self.assertEqual(make_job(self.user).meters(), {})
