"""The walk round: many loads at once, all of them or none, and one undo."""

import uuid

from django.core.files.uploadedfile import SimpleUploadedFile

from tests.web.base import SiteTest, make_load
from tests.web.test_photos import picture


def photo():
    return SimpleUploadedFile("label.jpg", picture(), "image/jpeg")


class WalkTest(SiteTest):
    def walk(self, *rows, **more):
        data = {"row-TOTAL_FORMS": len(rows), "row-INITIAL_FORMS": 0, **more}
        for number, row in enumerate(rows):
            data |= {f"row-{number}-{key}": value for key, value in row.items()}
        return self.client.post(self.url("loads:walk"), data)

    def loads(self):
        return {load.name: load for load in self.job.loads.live()}

    def test_rows_are_loads_with_kind_use_and_reading(self):
        answer = self.walk(
            {"name": "Kitchen fridge", "watts": "120 W", "read_from": "label"},
            {
                "appliance": "kettle",
                "watts": "1950",
                "read_from": "spot",
                "often": "twice a day, 3 minutes",
            },
            {"name": "", "watts": "", "read_from": "label"},
            {"name": "Dad's CPAP", "note": "Bedroom"},
        )
        self.assertRedirects(answer, self.url("loads:survey"))
        loads = self.loads()
        self.assertEqual(set(loads), {"Kitchen fridge", "Kettle", "Dad's CPAP"})
        fridge, kettle, cpap = (loads[name] for name in ("Kitchen fridge", "Kettle", "Dad's CPAP"))
        self.assertEqual(fridge.readings.get().type, "label")
        self.assertEqual(kettle.readings.get().data["watts"], 1950)
        self.assertEqual(kettle.readings.get().data["state"], "running")
        self.assertEqual(kettle.usual_use["minutes"], 3)
        self.assertEqual((cpap.cares, cpap.note, cpap.readings.count()), ("life", "Bedroom", 0))

    def test_volts_and_amps_of_the_mains_are_no_watts(self):
        self.walk(
            {"name": "Pump", "watts": "230 V 4.1 A", "read_from": "label"},
            {"name": "Fridge", "watts": "0.9 A 231 V", "read_from": "spot"},
            {"name": "Lamp", "watts": "12 V 2 A", "read_from": "label"},
        )
        data = {name: load.readings.get().data for name, load in self.loads().items()}
        self.assertEqual(data["Pump"], {"volts": 230.0, "amps": 4.1})
        self.assertEqual((data["Fridge"]["volts"], data["Fridge"]["amps"]), (231.0, 0.9))
        self.assertNotIn("watts", data["Fridge"])
        self.assertEqual(data["Lamp"], {"watts": 24.0})

    def test_one_undo_takes_all_of_them_back(self):
        self.walk({"name": "Lamp", "watts": "8"}, {"name": "TV", "watts": "90"})
        change = self.job.changes.filter(undone=False).first()
        self.client.post(self.url("jobs:undo", change.pk))
        self.assertEqual(self.loads(), {})

    def test_an_odd_row_stores_none_and_keeps_what_was_typed(self):
        answer = self.walk(
            {"name": "Lamp", "watts": "8"},
            {"name": "Gizmo", "watts": "8"},
            {"name": "TV", "watts": "soon", "often": "sometimes"},
        )
        self.assertContains(answer, "Choose what “Gizmo” is.", status_code=422)
        self.assertContains(answer, "“soon” is not a quantity", status_code=422)
        self.assertContains(answer, 'value="Lamp"', status_code=422)
        self.assertEqual(self.loads(), {})

    def test_watts_far_from_usual_are_asked_about_and_taken_when_they_are_right(self):
        row = {"name": "Cool box", "watts": "9000"}
        self.assertContains(self.walk(row), "Usual is", status_code=422)
        self.assertEqual(self.walk({**row, "sure": "on"}).status_code, 302)

    def test_names_that_are_taken_or_given_twice(self):
        make_load(self.job, "Lamp")
        answer = self.walk({"name": "Lamp"}, {"name": "TV"}, {"name": "TV"})
        self.assertContains(answer, "already", count=2, status_code=422)
        self.walk({"appliance": "lamp"}, {"appliance": "lamp"}, {"name": "Lamp 3"})
        self.assertEqual(set(self.loads()), {"Lamp", "Lamp 2", "Lamp 3", "Lamp 4"})

    def test_sent_twice_is_one_walk_and_nothing_is_no_walk(self):
        key = str(uuid.uuid4())
        for _ in range(2):
            self.walk({"name": "TV", "watts": "90"}, client_key=key)
        self.assertEqual(set(self.loads()), {"TV"})
        self.assertContains(self.walk({"name": ""}), "Nothing is entered yet", status_code=422)
        self.assertEqual(self.client.post(self.url("loads:walk"), {}).status_code, 422)

    def test_a_photo_belongs_to_the_watts_it_shows(self):
        self.walk({"name": "TV", "watts": "90", "photo": photo()})
        self.assertEqual(self.loads()["TV"].readings.get().photos.count(), 1)
        answer = self.walk({"name": "Fan", "photo": photo()})
        self.assertContains(answer, "Give the watts that the photo shows", status_code=422)

    def test_rows_of_a_spreadsheet_come_checked_and_numbered(self):
        table = "Device\tPower\tHours\tSerial\nTV\t90\t4\tx\nGizmo\t5\t1\ty\nLamp\t1,500\t\t"
        answer = self.client.post(self.url("loads:paste"), {"table": table, "first": "2"})
        self.assertContains(answer, 'name="row-2-name" value="TV"')
        self.assertContains(answer, 'name="row-4-name" value="Lamp"')
        self.assertContains(answer, "is-odd", count=2)
        self.assertContains(answer, "Not used of the table: Serial.")
        self.assertEqual(self.loads(), {})

    def test_a_table_that_cannot_be_read_says_why(self):
        full = {"table": "\n".join(f"TV {n}\t90" for n in range(50)), "first": "30"}
        for data in ({"table": ""}, full, {"table": "name\twatts"}):
            answer = self.client.post(self.url("loads:paste"), data)
            self.assertEqual(answer.status_code, 422)
            self.assertEqual(answer["Content-Type"], "text/plain")


class SameAgainTest(SiteTest):
    def test_a_copy_has_its_readings_and_a_name_of_its_own(self):
        load = make_load(self.job, "Lamp", 9.0)
        for name in ("Lamp 2", "Lamp 3"):
            self.client.post(self.url("loads:same-again", load.pk))
            copy = self.job.loads.live().get(name=name)
            self.assertEqual(copy.readings.get().data, load.readings.get().data)
        change = self.job.changes.filter(undone=False).first()
        self.client.post(self.url("jobs:undo", change.pk))
        self.assertEqual(self.job.loads.live().count(), 2)
