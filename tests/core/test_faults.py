"""Documents that once ended in a fault, and commands that lose no other answer by one."""

import contextlib
import io
import json
import os
import subprocess
import sys
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

import numpy as np

from needle import quantity
from needle.__main__ import main
from needle.plan.documents.parse import parse_plan
from needle.plan.draws.inputs import likely
from needle.plan.energy import simulate as simulating
from needle.plan.energy.bank import BLOCK
from needle.plan.energy.battery_side import BatterySide
from needle.plan.energy.simulate import simulate
from needle.plan.sources import sun

BATTERY = {"chemistry": "lfp", "nominal_wh": 3000, "volts": 25.6}


def plan(**more):
    return {
        "start": "2027-02-09T18:00:00+00:00",
        "hours": 10,
        "supply": {"battery": BATTERY, "inverter": {"continuous_w": 1000}},
        "loads": [{"name": "Router", "running_w": 12}],
        **more,
    }


class PlanFaultsTest(unittest.TestCase):
    def test_a_sun_ends_with_its_plan_from_every_hour_and_for_every_length(self):
        with mock.patch.object(sun, "_clear_sky", lambda *place: np.ones(place[-1])):
            for hour in range(24):
                for hours in range(1, 61):
                    start = datetime(2027, 6, 9, hour, tzinfo=UTC).isoformat()
                    document = plan(
                        start=start,
                        hours=hours,
                        sources=[{"kind": "sun", "rated_w": 200, "latitude": 50}],
                    )
                    parsed = parse_plan(document)
                    side = BatterySide(parsed, likely(parsed), hours * 60)
                    sizes = [
                        side.offered(first, first + BLOCK)[0].shape[1]
                        for first in range(0, hours * 60, BLOCK)
                    ]
                    self.assertEqual(sum(sizes), hours * 60, (hour, hours))

    def test_a_plan_with_sun_whose_last_hours_cross_midnight_is_answered(self):
        for start, hours in (("14:00", 11), ("08:00", 17)):
            document = plan(
                start=f"2027-06-09T{start}:00+00:00",
                hours=hours,
                sources=[{"kind": "sun", "rated_w": 200, "latitude": 50}],
            )
            self.assertGreater(simulate(parse_plan(document), 4).likely.energy_wh["sources"], 0)

    def test_an_overload_beside_a_load_that_is_used_by_day_only(self):
        loads = [
            {"name": "Desk", "running_w": 58, "use": {"between": [["10:00", "15:00"]]}},
            {
                "name": "Kettle",
                "running_w": 1500,
                "steps": [{"watts": 1500, "minutes": 4}],
                "use": {"tasks": ["19:00"]},
            },
            {"name": "Heater", "running_w": 300},
        ]
        outcome = simulate(parse_plan(plan(loads=loads)), 20)
        self.assertEqual({trip.load for trip in outcome.trips}, {"Kettle"})


class CommandFaultsTest(unittest.TestCase):
    def test_a_fault_in_one_file_is_that_file_s_line(self):
        with tempfile.TemporaryDirectory() as folder:
            files = [Path(folder) / name for name in ("a.json", "b.json", "c.json")]
            for path in files:
                path.write_text(json.dumps(plan(name=path.stem)))
            answers = []

            def fails_once(parsed, **more):
                answers.append(parsed)
                if len(answers) == 2:
                    raise IndexError("a fault of ours")
                return simulate(parsed, draws=4)

            out, err = io.StringIO(), io.StringIO()
            with (
                mock.patch.object(simulating, "simulate", fails_once),
                contextlib.redirect_stdout(out),
                contextlib.redirect_stderr(err),
            ):
                status = main(["plan", *map(str, files)])
        lines = [json.loads(line) for line in out.getvalue().splitlines()]
        self.assertEqual(status, 2)
        self.assertIn("a fault of this program", lines[1]["error"])
        self.assertEqual(
            [line["runtime_h"]["value"] > 0 for line in (lines[0], lines[2])], [True] * 2
        )

    def test_a_pipe_that_is_closed_early_leaves_no_traceback(self):
        reader, writer = os.pipe()
        os.close(reader)
        done = subprocess.run(
            [sys.executable, "-m", "needle", "quantity", "5 W", "--as", "W"],
            stdout=writer,
            stderr=subprocess.PIPE,
            text=True,
            check=False,
        )
        os.close(writer)
        self.assertEqual((done.returncode, done.stderr), (0, ""))


class LongUnitsTest(unittest.TestCase):
    def test_no_long_text_reaches_the_search_for_a_unit(self):
        with mock.patch.object(quantity, "_registry", side_effect=AssertionError("searched")):
            for text, unit in (("5 W", "W" * 20_000), ("5", "k" * 25), ("5 V", "V" * 30)):
                with self.assertRaisesRegex(quantity.QuantityError, "not a unit"):
                    quantity.parse(text, unit)
