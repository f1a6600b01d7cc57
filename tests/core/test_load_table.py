"""A table of loads from a spreadsheet: columns by their names, loads by theirs."""

from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from needle.document import DocumentError
from needle.profile.appliances import APPLIANCES
from needle.profile.load_table import MOST_ROWS, appliance_named, parse_load_table
from needle.usage.usual_use import usual_use_from_text


class ColumnsTest(TestCase):
    def test_columns_in_any_order_by_their_titles(self):
        table = parse_load_table(
            "Room\tQty\tHours per day\tPower (W)\tDevice\tSerial\n"
            "Kitchen\t1\t24\t120\tFridge\tA1\n"
            "Hall\t3\t5\t8,5\tLED lamp\tA2\n"
        )
        self.assertEqual(
            [(row.name, row.watts, row.often, row.note, row.appliance) for row in table.rows],
            [
                ("Fridge", "120", "all the time", "Kitchen", "fridge"),
                ("LED lamp", "8,5", "5 hours a day", "Hall", "lamp"),
                ("LED lamp 2", "8,5", "5 hours a day", "Hall", "lamp"),
                ("LED lamp 3", "8,5", "5 hours a day", "Hall", "lamp"),
            ],
        )
        self.assertEqual(table.unused, ("Serial",))

    def test_without_titles_the_name_comes_first_then_watts_then_hours(self):
        table = parse_load_table("Fridge;120;24\nKettle;2000 W;0,2")
        self.assertEqual([row.watts for row in table.rows], ["120", "2000 W"])
        self.assertEqual(table.rows[1].often, "0.2 hours a day")

    def test_commas_quotes_and_a_byte_order_mark(self):
        table = parse_load_table('\ufeffname,watts\n"Lamp, large",60\n')
        self.assertEqual(table.rows[0].name, "Lamp, large")

    def test_minutes_a_day_are_one_use_of_so_long(self):
        table = parse_load_table("name\tminutes\nKettle\t6")
        self.assertEqual(
            usual_use_from_text(table.rows[0].often), usual_use_from_text("once a day, 6 minutes")
        )

    def test_hours_as_written_are_understood_or_marked_later(self):
        table = parse_load_table("name\thours\nTV\tin the evening\nFan\t0\nRadio\t2.5")
        self.assertEqual(
            [row.often for row in table.rows], ["in the evening", "", "2.5 hours a day"]
        )

    def test_units_and_periods_of_a_title_count(self):
        table = parse_load_table(
            "Load;Power (kW);Hours per week;Daily use (kWh)\nSaw;1,5;14;3\nRouter;8 W;168;0,2"
        )
        self.assertEqual(
            [(row.watts, row.often) for row in table.rows],
            [("1,5 kW", "2 hours a day"), ("8 W", "all the time")],
        )
        self.assertEqual(table.unused, ("Daily use (kWh)",))
        table = parse_load_table("Load;Power consumption (W)\nKettle;2000")
        self.assertEqual(table.rows[0].watts, "2000")
        table = parse_load_table("Load;kW\nKettle;2")
        self.assertEqual(table.rows[0].watts, "2 kW")
        table = parse_load_table("Load;Time (min)\nKettle;6")
        self.assertEqual(table.rows[0].often, "once a day, 6 minutes")

    def test_how_often_and_for_how_long(self):
        for titles, cells, use in (
            ("How often;Minutes", "weekly;40", {"times": 1, "days": 7, "minutes": 40.0}),
            ("Times per week;Minutes each", "3;20", {"times": 3, "days": 7, "minutes": 20.0}),
            ("Minutes per week", "90", {"times": 1, "days": 7, "minutes": 90.0}),
            ("How often", "twice a week for 20 minutes", {"times": 2, "days": 7, "minutes": 20.0}),
            ("Hours per month", "15", {"hours": 0.5}),
            ("Uses;min", "0;5", {}),
        ):
            with self.subTest(titles=titles, cells=cells):
                table = parse_load_table(f"Load;{titles}\nIron;{cells}")
                self.assertEqual(usual_use_from_text(table.rows[0].often), use)
                self.assertEqual(table.unused, ())
        both = parse_load_table("Load;How often;Hours\nIron;weekly;2")
        self.assertEqual((both.rows[0].often, both.unused), ("2 hours a day", ("How often",)))

    def test_what_is_no_table_says_why(self):
        for text, words in (
            ("", "empty"),
            ("\n\t\n", "empty"),
            ("name\twatts\n", "titles only"),
            ("x" * 50_000, "too long"),
            ("\n".join(f"Lamp {n}\t5" for n in range(MOST_ROWS + 1)), "at most"),
            ("name\tqty\nLamp\t100", "100 of Lamp"),
        ):
            with self.subTest(text[:20]), self.assertRaisesRegex(DocumentError, words):
                parse_load_table(text)

    @given(st.text(alphabet="ab1,;\t\n\"' .", max_size=80))
    def test_any_text_is_read_or_refused(self, text):
        try:
            table = parse_load_table(text)
        except DocumentError:
            return
        self.assertTrue(0 < len(table.rows) <= MOST_ROWS)


class NamesTest(TestCase):
    def test_names_as_people_write_them(self):
        for name, key in (
            ("Kitchen fridge", "fridge"),
            ("chest freezers", "fridge"),
            ("CPAP of Dad", "bedside"),
            ("Sump pump", "float-pump"),
            ("Pond pump", "pump"),
            ("LED strip", "lamp"),
            ("65 inch TV", "screen"),
            ("Fantasy", ""),
            ("Unknown thing", ""),
        ):
            with self.subTest(name):
                self.assertEqual(appliance_named(name), key)

    def test_each_suggestion_is_an_appliance(self):
        self.assertIn(appliance_named("heat pump"), APPLIANCES)
