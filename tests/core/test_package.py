"""Data packages: what is written comes back, what is hostile does not get in."""

from __future__ import annotations

import io
import json
import math
import random
import string
import unittest
import zipfile

from hypothesis import given, settings
from hypothesis import strategies as st

from needle.document import DocumentError
from needle.package import MOST_FILES, NAME, Package, Table, check, read, write

FIELDS = (
    ("id", "integer"),
    ("name", "string"),
    ("watts", "number"),
    ("on", "boolean"),
    ("data", "object"),
    ("windows", "array"),
    ("at", "datetime"),
)
TEXT = st.text(string.printable + "äé°–=+-@'\"", max_size=20).map(
    lambda text: text.replace("\r", "").replace("\x0b", "").replace("\x0c", "")
)
JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 9) | TEXT, lambda inner: st.lists(inner, max_size=3)
)
ROWS = st.fixed_dictionaries(
    {
        "id": st.integers(0, 10**9),
        "name": TEXT.map(lambda text: text or None),
        "watts": st.none() | st.floats(allow_nan=False, allow_infinity=False),
        "on": st.none() | st.booleans(),
        "data": st.none() | st.dictionaries(TEXT, JSON, max_size=3),
        "windows": st.none() | st.lists(JSON, max_size=3),
        "at": st.none() | st.just("2027-02-09T18:00:00+00:00"),
    }
)


def package(rows, title="Home"):
    return Package(title, {"loads": Table("loads", "loads.csv", FIELDS, list(rows))})


def rewritten(content, path, text):
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(out, "w") as new:
        for name in old.namelist():
            new.writestr(name, text if name == path else old.read(name))
    return out.getvalue()


ONE = {
    "id": 1,
    "name": "Box",
    "watts": 90.5,
    "on": True,
    "data": {"a": 1},
    "windows": [["18:00"]],
    "at": "2027-02-09T18:00:00+00:00",
}


class RoundTripTest(unittest.TestCase):
    @settings(max_examples=40)
    @given(st.lists(ROWS, max_size=6))
    def test_rows_come_back(self, rows):
        again = read(write(package(rows)))
        self.assertEqual(again.tables["loads"].rows, rows)
        self.assertEqual(again.tables["loads"].fields, FIELDS)

    def test_title_and_extras(self):
        again = read(write(Package("Tern", package([ONE]).tables, {"steady_needle_version": 1})))
        self.assertEqual((again.title, again.extra), ("Tern", {"steady_needle_version": 1}))

    def test_check_lists_the_resources(self):
        checked = check(write(package([ONE, {**ONE, "id": 2}])))
        self.assertEqual(checked["resources"], [{"name": "loads", "path": "loads.csv", "rows": 2}])
        self.assertEqual((checked["valid"], checked["errors"]), (True, []))

    def test_numbers_are_exact(self):
        for value in (0.1, 1e-300, 1 / 3, -0.0, 123456789.123456789):
            (row,) = read(write(package([{**ONE, "watts": value}]))).tables["loads"].rows
            self.assertEqual(math.copysign(1, row["watts"]), math.copysign(1, value))
            self.assertEqual(row["watts"], value)

    def test_a_text_that_looks_like_a_formula_is_guarded(self):
        for text in ("=1+1", "+1", "-1", "@x", "'quoted", "\tx"):
            content = write(package([{**ONE, "name": text}]))
            with zipfile.ZipFile(io.BytesIO(content)) as folder:
                self.assertIn(f"'{text[0]}", folder.read("loads.csv").decode())
            self.assertEqual(read(content).tables["loads"].rows[0]["name"], text)


class RefusalTest(unittest.TestCase):
    def setUp(self):
        self.content = write(package([ONE]))

    def refused(self, content):
        with self.assertRaises(DocumentError) as caught:
            read(content)
        self.assertEqual(check(content)["valid"], False)
        return str(caught.exception)

    def rows(self, text):
        head = ",".join(name for name, _ in FIELDS)
        return rewritten(self.content, "loads.csv", f"{head}\r\n{text}\r\n")

    def test_cells_of_a_wrong_type_are_named(self):
        for line, said in (
            ("x,Box,,,,,", "loads.csv row 2, id: 'x' is not a integer"),
            ("1,Box,hot,,,,", "watts: 'hot' is not a number"),
            ("1,Box,nan,,,,", "watts: 'nan' is not a number"),
            ("1,Box,inf,,,,", "watts: 'inf' is not a number"),
            ("1,Box,,yes,,,", "on: 'yes' is not a boolean"),
            ("1,Box,,,[1],,", "data: '[1]' is not a object"),
            ("1,Box,,,,{},", "windows: '{}' is not a array"),
            ("1,Box,,,{broken,,", "is not a object"),
            ("1,=cmd(),,,,,", "looks like a formula"),
            ("1,Box", "has 2 cells, not 7"),
        ):
            with self.subTest(line=line):
                self.assertIn(said, self.refused(self.rows(line)))

    def test_heads_that_do_not_fit(self):
        evil = rewritten(self.content, "loads.csv", "id,nome\r\n1,Box\r\n")
        self.assertIn("does not name the fields", self.refused(evil))

    def test_descriptors_that_do_not_fit(self):
        with zipfile.ZipFile(io.BytesIO(self.content)) as folder:
            document = json.loads(folder.read(NAME))
        resource = document["resources"][0]
        for change, said in (
            ({"resources": []}, "is empty"),
            ({"resources": [5]}, "needs a name"),
            ({"resources": [{**resource, "path": "../x.csv"}]}, "must be a file of the package"),
            ({"resources": [{**resource, "path": "/x.csv"}]}, "must be a file of the package"),
            ({"resources": [{**resource, "path": "gone.csv"}]}, "is not in the package"),
            ({"resources": [{**resource, "schema": None}]}, "is needed"),
            ({"resources": [{**resource, "schema": {"fields": [1]}}]}, "each needs a name"),
            ({"resources": [resource, resource]}, "two resources are called"),
            (
                {"resources": [resource, {**resource, "name": "more"}]},
                "two resources name the file",
            ),
            (
                {"resources": [{**resource, "schema": {"fields": [{"name": "a", "type": []}]}}]},
                "is no known type",
            ),
            (
                {"resources": [{**resource, "schema": {"fields": [{"name": "a"}, {"name": "a"}]}}]},
                "two are called",
            ),
        ):
            with self.subTest(said=said):
                text = json.dumps({**document, **change})
                self.assertIn(said, self.refused(rewritten(self.content, NAME, text)))
        self.assertIn("is not JSON", self.refused(rewritten(self.content, NAME, "{")))
        self.assertIn("must be an object", self.refused(rewritten(self.content, NAME, "[1]")))
        self.assertIn("is not UTF-8", self.refused(rewritten(self.content, NAME, b"\xff\xfe")))

    def test_too_many_files(self):
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as folder:
            for number in range(MOST_FILES + 1):
                folder.writestr(f"{number}.csv", "")
        self.assertIn("files: at most", self.refused(out.getvalue()))

    def test_two_gigabytes_when_unpacked(self):
        out = io.BytesIO(self.content)
        with zipfile.ZipFile(out, "a", zipfile.ZIP_DEFLATED) as folder:
            item = zipfile.ZipInfo("zeros.csv")
            item.compress_type = zipfile.ZIP_DEFLATED
            with folder.open(item, "w", force_zip64=True) as file:
                block = b"0" * 1_000_000
                for _ in range(120):
                    file.write(block)
        self.assertIn("when unpacked", self.refused(out.getvalue()))

    def test_what_is_too_long_is_refused_before_it_is_read(self):
        def one_table(kinds, line, count):
            fields = [{"name": f"c{n}", "type": kind} for n, kind in enumerate(kinds)]
            head = ",".join(field["name"] for field in fields)
            described = {"name": "t", "path": "t.csv", "schema": {"fields": fields}}
            out = io.BytesIO()
            with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as folder:
                folder.writestr(NAME, json.dumps({"resources": [described]}))
                rows = "".join(f"{n}{line}\r\n" for n in range(count))
                folder.writestr("t.csv", f"{head}\r\n{rows}")
            return out.getvalue()

        for kinds, line, count, said in (
            (["integer"] + ["string"] * 49, "," * 49, 40_000, "is too long"),
            (["integer", "string"], ",x", 60_000, "is too long"),
            (["number"] * 13, "," * 12, 5, "more than 12 columns of numbers"),
            (["number"] * 2, ",x", 5, "not a number"),
            (["number"] * 2, ",inf", 5, "not finite"),
            (["string"] * 101, "," * 100, 1, "more than 100 entries"),
        ):
            with self.subTest(kinds=kinds[:3], said=said):
                self.assertIn(said, self.refused(one_table(kinds, line, count)))

    def test_a_file_that_is_packed_too_tightly(self):
        out = io.BytesIO(self.content)
        with zipfile.ZipFile(out, "a", zipfile.ZIP_DEFLATED) as folder:
            folder.writestr("tight.csv", b"," * 5_000_000)
        self.assertIn("packed tighter", self.refused(out.getvalue()))

    def test_damage_anywhere_is_a_sentence(self):
        rng = random.Random(5)
        for _ in range(300):
            content = bytearray(self.content)
            for _ in range(rng.randint(1, 4)):
                content[rng.randrange(len(content))] = rng.randrange(256)
            check(bytes(content))
        newer = self.content.replace(b"PK\x03\x04\x14", b"PK\x03\x04\xff")
        newer = newer.replace(b"PK\x01\x02\x14\x03\x14", b"PK\x01\x02\x14\x03\xff")
        self.assertNotEqual(newer, self.content)
        self.assertIn("zip", self.refused(newer))

    def test_a_header_that_lies_about_its_size(self):
        out = io.BytesIO(self.content)
        with zipfile.ZipFile(out, "a", zipfile.ZIP_DEFLATED) as folder:
            folder.writestr("bomb.csv", b"0" * 101_000_000)
        lied = out.getvalue().replace(
            (101_000_000).to_bytes(4, "little"), (10).to_bytes(4, "little")
        )
        with zipfile.ZipFile(io.BytesIO(lied)) as folder:
            self.assertEqual(folder.getinfo("bomb.csv").file_size, 10)
        with zipfile.ZipFile(io.BytesIO(lied)) as folder:
            document = json.loads(folder.read(NAME))
        document["resources"][0]["path"] = "bomb.csv"
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as folder:
            folder.writestr(NAME, json.dumps(document))
        # The lie alone is harmless; named as a table it is refused as damaged or ill-fitting.
        self.assertTrue(check(lied)["valid"])
        self.assertIn("is not in the package", self.refused(out.getvalue()))
