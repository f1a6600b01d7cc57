"""Whatever is typed: a sentence or a success, never a fault, never half a record."""

import json
import uuid

from django.contrib.auth import get_user_model
from django.core.cache import caches
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from hypothesis.extra.django import TestCase

from tests.web.base import make_job, make_load, make_supply
from web.bench import loggers
from web.bench.actions import correct, read_file
from web.bench.models import Capture

TYPED = st.one_of(
    st.text(max_size=30),
    st.sampled_from(
        [
            "",
            "0",
            "-1",
            "1e9",
            "1e999",
            "nan",
            "inf",
            "5 kW",
            "5 kWh",
            "100 %",
            "1/0",
            "1/2 hp",
            "24 Ah @ 3.6 V",
            "@",
            ":",
            "12:99",
            "1h30",
            "on 0:00",
            "\x00",
            "<b>",
            "٣",
            "18:00–22:30",
            "2027-02-09T18:00",
            "x" * 5000,
        ]
    ),
)
QUIET = settings(deadline=None, max_examples=4, suppress_health_check=[HealthCheck.too_slow])


class FuzzTest(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.user = get_user_model().objects.create_user("ada")
        cls.job = make_job(cls.user)
        cls.load = make_load(cls.job)
        make_supply(cls.job)

    def send(self, path, data):
        self.client.force_login(self.user)
        answer = self.client.post(f"/jobs/{self.job.pk}/{path}", data)
        self.assertIn(answer.status_code, (200, 302, 422), path)
        for page in ("survey/", "supplies/", "plan/"):
            self.assertEqual(self.client.get(f"/jobs/{self.job.pk}/{page}").status_code, 200)

    @QUIET
    @given(
        st.sampled_from(["spot", "start", "energy", "tally", "task", "charge-drop", "label"]),
        st.fixed_dictionaries(
            {},
            optional=dict.fromkeys(
                (
                    "state",
                    "watts",
                    "volts",
                    "amps",
                    "va",
                    "pf",
                    "hz",
                    "wh",
                    "hours",
                    "step_wh",
                    "edges",
                    "minutes",
                    "pieces",
                    "runs",
                    "before",
                    "supply_wh",
                    "charge_from",
                    "charge_to",
                    "idle_w",
                    "efficiency",
                    "setting",
                    "read_at",
                    "note",
                    "room_c",
                    "instrument",
                    "horsepower",
                    "kwh_per_year",
                    "client_key",
                ),
                TYPED,
            ),
        ),
    )
    def test_readings(self, kind, data):
        self.send(f"loads/{self.load.pk}/readings/{kind}/", data)

    @QUIET
    @given(
        st.fixed_dictionaries(
            {
                "name": TYPED,
                "kind": st.sampled_from(["led", "pump", "compressor-fixed", "?"]),
                "priority": st.sampled_from(["must", "nice", "?"]),
            },
            optional=dict.fromkeys(("label_watts", "label_amps", "hours_per_day", "set_c"), TYPED),
        )
    )
    def test_loads(self, data):
        self.send("loads/add/", data)

    @QUIET
    @given(
        st.fixed_dictionaries(
            {
                "name": TYPED,
                "chemistry": st.sampled_from(["lfp", "lead", "usb"]),
                "nominal_wh": TYPED,
                "waveform": st.just("sine"),
            },
            optional=dict.fromkeys(
                (
                    "continuous_w",
                    "surge_va",
                    "idle_w",
                    "efficiency",
                    "floor",
                    "overload_ratio",
                    "overload_s",
                    "peukert_n",
                    "capacity_factor",
                    "capacity_spread",
                ),
                TYPED,
            ),
        )
    )
    def test_supplies(self, data):
        self.send("supplies/add/", data)

    @QUIET
    @given(
        st.fixed_dictionaries(
            {"name": TYPED, "needed_hours": TYPED, "start": TYPED, "start_charge": TYPED},
            optional=dict.fromkeys(("room_c", "floor", "supply"), TYPED),
        )
    )
    def test_plans(self, data):
        self.send("plans/0/details/", data)

    @QUIET
    @given(TYPED, TYPED, st.booleans())
    def test_uses(self, use, count, taken):
        name = f"load{self.load.pk}"
        data = {f"{name}-use": use, f"{name}-count": count}
        if taken:
            data[f"{name}-taken_in"] = "on"
        self.send(f"plans/0/loads/{self.load.pk}/", data)

    @QUIET
    @given(TYPED, st.sampled_from(["Wh", "h", "°C", "share", "furlong", "", "W" * 1500]))
    def test_echo(self, text, unit):
        self.client.force_login(self.user)
        answer = self.client.get("/quantity/", {"of": "v", "v": text, "unit": unit})
        self.assertEqual(answer.status_code, 414 if len(text) > 2000 else 200)

    def test_no_long_query_reaches_a_parser(self):
        self.client.force_login(self.user)
        for query in ({"of": "v", "v": "5 W", "unit": "W" * 20_000}, {"x" * 30_000: ""}):
            self.assertEqual(self.client.get("/quantity/", query).status_code, 414)
        self.assertEqual(self.client.get("/find/", {"q": "9" * 5000}).status_code, 414)


class BenchFuzzTest(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.user = get_user_model().objects.create_user("ada")
        cls.job = make_job(cls.user)
        cls.load = make_load(cls.job)
        make_supply(cls.job)
        cls.logger, cls.token = loggers.add_logger(cls.load, "meter")

    def post(self, path, data):
        self.client.force_login(self.user)
        answer = self.client.post(f"/jobs/{self.job.pk}/{path}", data)
        self.assertIn(answer.status_code, (200, 302, 422), path)
        for page in ("bench/", "bench/loggers/", "survey/"):
            self.assertEqual(self.client.get(f"/jobs/{self.job.pk}/{page}").status_code, 200)

    def capture(self):
        text = "when,watts\n" + "".join(f"{i},{2 + 90 * (i % 60 > 40)}\n" for i in range(600))
        return read_file(
            Capture(load=self.load, name="x.csv", client_key=uuid.uuid4()), text.encode()
        )

    @QUIET
    @given(
        st.fixed_dictionaries(
            {},
            optional=dict.fromkeys(
                (
                    "name",
                    "instrument",
                    "setting",
                    "room_c",
                    "volts",
                    "zone",
                    "note",
                    "column0",
                    "column1",
                    "version",
                ),
                TYPED,
            ),
        )
    )
    def test_corrections(self, data):
        capture = self.capture()
        self.post(
            f"captures/{capture.pk}/", {"name": "x", "instrument": "plug", "version": 1, **data}
        )
        self.post(f"captures/{capture.pk}/keep/", {})

    @QUIET
    @given(TYPED, TYPED, st.sampled_from(["1", "2", "x", ""]))
    def test_levels(self, bounds, names, version):
        capture = self.capture()
        correct(self.understood(capture))
        data = {"bounds": bounds, "names_text": names, "version": version}
        self.post(f"captures/{capture.pk}/levels/", data)

    def understood(self, capture):
        capture.meanings = {"when": "time"}
        return capture

    @QUIET
    @given(
        st.fixed_dictionaries(
            {
                "standin": st.sampled_from(["led", "pump", "?"]),
                "meter": st.sampled_from(["plug", "?"]),
            },
            optional=dict.fromkeys(("speed", "seed", "setting", "room_c", "note"), TYPED),
        )
    )
    def test_sessions(self, data):
        self.post("bench/", {"load": self.load.pk, **data})

    @QUIET
    @given(
        st.one_of(
            st.binary(max_size=60),
            TYPED.map(str.encode),
            st.lists(
                st.dictionaries(
                    st.sampled_from(["time", "watts", "amps", "x"]),
                    st.one_of(
                        st.none(),
                        st.floats(),
                        st.text(max_size=5),
                        st.booleans(),
                        st.integers(1_700_000_000, 1_900_000_000),
                    ),
                    max_size=3,
                ),
                max_size=4,
            ).map(lambda rows: "\n".join(map(json.dumps, rows)).encode()),
        )
    )
    def test_samples(self, body):
        for name in ("default", "answers"):
            caches[name].clear()
        answer = self.client.post(
            "/api/samples/",
            body,
            content_type="text/plain",
            headers={"Authorization": f"Bearer {self.token}"},
        )
        self.assertIn(answer.status_code, (200, 400))
        self.client.force_login(self.user)
        page = self.client.get(f"/jobs/{self.job.pk}/bench/loggers/")
        self.assertEqual(page.status_code, 200)
        self.post(f"bench/loggers/{self.logger.pk}/collect/", {})
