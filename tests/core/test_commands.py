"""The headless commands: one JSON object, or one line and exit 2."""

import contextlib
import io
import json
import multiprocessing
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from needle.__main__ import main
from tests.core.test_plan import BASE
from tests.core.test_profile import BOX


def run(*argv):
    """Exit status, what was printed, what was complained."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            status = main(argv)
        except SystemExit as stop:
            status = stop.code
    return status, out.getvalue(), err.getvalue()


class OddInputTest(unittest.TestCase):
    """Whatever is given, it is one line and exit 2, never a traceback."""

    def refused(self, *argv, content=None):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "in.json"
            path.write_text(content or "")
            status, out, err = run(*[str(path) if part == "FILE" else part for part in argv])
        self.assertEqual((status, out, err.count("\n")), (2, "", 1), err)
        return err

    def test_numbers_beyond_all(self):
        huge = "1" + "0" * 400
        for argv, content in (
            (("agree", "--watts", "inf"), None),
            (("agree", "--volts", "1e200", "--amps", "1e200"), None),
            (("agree", "--watts", "1e308", "--va", "1e308", "--volts", "1e-300"), None),
            (
                (
                    "capacitor",
                    "--watts",
                    "1e300",
                    "--va",
                    "1e308",
                    "--volts",
                    "1e-200",
                    "--hertz",
                    "50",
                ),
                None,
            ),
            (("capacitor", "--watts", "nan", "--va", "5", "--volts", "230", "--hertz", "50"), None),
            (("profile", "FILE"), f'{{"name": "x", "kind": "led", "set_c": {huge}}}'),
            (("profile", "FILE"), f'{{"name": "x", "kind": "led", "set_c": {"9" * 5000}}}'),
            (("profile", "FILE"), '{"name": "x", "kind": "led", "readings": [{"type": []}]}'),
            (("profile", "FILE"), '{"name": [], "kind": {}}'),
            (("plan", "FILE"), f'{{"hours": {huge}}}'),
            (("plan", "FILE"), "[" * 100_000),
            (("forecast", "FILE"), '{"supply": {"battery": {"chemistry": []}}}'),
            (("agree", "--watts", "5", "--instrument", "crystal ball"), None),
        ):
            with self.subTest(argv=argv, content=(content or "")[:60]):
                self.refused(*argv, content=content)


class CommandTest(unittest.TestCase):
    def setUp(self):
        self.folder = tempfile.TemporaryDirectory()
        self.addCleanup(self.folder.cleanup)

    def file(self, content, name="in.json"):
        path = Path(self.folder.name) / name
        path.write_text(content if isinstance(content, str) else json.dumps(content))
        return str(path)

    def answer(self, *argv):
        status, out, err = run(*argv)
        self.assertEqual((status, err), (0, ""))
        return json.loads(out)

    def refused(self, *argv):
        status, out, err = run(*argv)
        self.assertEqual((status, out), (2, ""))
        self.assertEqual(err.count("\n"), 1)
        self.assertNotIn("Traceback", err)
        return err

    def test_quantity(self):
        self.assertEqual(
            self.answer("quantity", "0,71 kWh", "--as", "Wh"), {"value": 710.0, "unit": "Wh"}
        )
        self.assertIn("is a rate", self.refused("quantity", "4 kW", "--as", "Wh"))

    def test_agree(self):
        answer = self.answer(
            "agree",
            "--volts",
            "231",
            "--amps",
            "3.30",
            "--watts",
            "610",
            "--va",
            "762",
            "--pf",
            "0.70",
        )
        self.assertEqual((answer["consistent"], answer["suspect"]), (False, "pf"))
        self.assertAlmostEqual(answer["power_factor"], 0.8005, places=4)
        self.assertIn("at least one", self.refused("agree"))
        self.assertIn("pf", self.refused("agree", "--pf", "7"))
        self.assertIn("volts", self.refused("agree", "--volts", "nan"))

    def test_profile(self):
        answer = self.answer("profile", self.file(BOX))
        self.assertAlmostEqual(answer["mean_w"]["value"], 33.02, places=2)

    def test_plan(self):
        answer = self.answer("plan", self.file(BASE), "--draws", "60", "--seed", "2")
        self.assertTrue(14 < answer["runtime_h"]["value"] < 24)
        self.assertEqual(
            answer, self.answer("plan", self.file(BASE), "--draws", "60", "--seed", "2")
        )

    def test_the_verdict_is_said_in_sentences_with_and_without_advice(self):
        small = self.file(
            {**BASE, "supply": {**BASE["supply"], "inverter": {"continuous_w": 60, "surge_va": 90}}}
        )
        whole = self.answer("plan", small, "--draws", "40")["verdict"]
        self.assertRegex(whole["text"], r"^Lasts .+ Box needs 9\d.W; the inverter gives 60.W\.$")
        only = self.answer("plan", small, "--draws", "40", "--only", "verdict")["verdict"]
        self.assertEqual(only["text"], whole["text"])

    def test_several_plans_are_answered_line_by_line(self):
        good, bad = self.file(BASE), Path(self.folder.name) / "bad.json"
        bad.write_text(json.dumps({**BASE, "odds": 2}))
        status, out, err = run("plan", good, str(bad), "--draws", "20")
        first, second = map(json.loads, out.splitlines())
        self.assertEqual((status, err), (2, "needle: 1 of 2 files were refused\n"))
        self.assertEqual(first, self.answer("plan", good, "--draws", "20"))
        self.assertEqual(second, {"file": str(bad), "error": "odds: 2 is too large: at most 0.999"})

    def test_many_plans_are_answered_by_several_processes_in_their_order(self):
        files = [self.file({**BASE, "needed_hours": 2 + n}, f"plan-{n}.json") for n in range(6)]
        Path(files[3]).write_text("[]")
        # Workers of the parallel runner are daemons, which may not have children otherwise.
        alone = multiprocessing.current_process()._config
        with (
            mock.patch.dict(alone, {"daemon": False}),
            mock.patch("os.cpu_count", return_value=2),
        ):
            status, out, err = run("plan", *files, "--draws", "20")
        answers = [json.loads(line) for line in out.splitlines()]
        self.assertEqual((status, err), (2, "needle: 1 of 6 files were refused\n"))
        self.assertEqual(answers[3]["file"], files[3])
        for n in (0, 5):
            self.assertEqual(answers[n], self.answer("plan", files[n], "--draws", "20"))

    def test_a_load_by_its_evidence_is_the_load_that_the_profile_describes(self):
        capture = Path(self.folder.name) / "box.csv"
        rows = (f"{10 * n},{95 if n // 40 % 3 == 0 else 1.5}" for n in range(2400))
        capture.write_text("time,watts\n" + "\n".join(rows))
        profile = {"kind": "compressor-fixed", "readings": [{"type": "capture", "file": "box.csv"}]}
        load = {"name": "Box", "profile": profile, "priority": "must"}
        plan = {**BASE, "needed_hours": 24, "loads": [load]}
        answer = self.answer("plan", self.file(plan), "--draws", "40")
        mean_w = self.answer("profile", self.file(profile))["mean_w"]["value"]
        self.assertAlmostEqual(
            answer["verdict"]["needed_wh"], 24 * mean_w, delta=0.01 * 24 * mean_w
        )
        self.assertIn(
            "loads[0].profile.readings[0].watts",
            self.refused(
                "plan",
                self.file(
                    {
                        **BASE,
                        "loads": [
                            {
                                "name": "L",
                                "profile": {
                                    "kind": "led",
                                    "readings": [{"type": "spot", "watts": "x"}],
                                },
                            }
                        ],
                    }
                ),
            ),
        )

    def test_forecast(self):
        trial = {
            "supply": {"battery": {"chemistry": "lfp", "nominal_wh": 1000, "volts": 12.8}},
            "expected_w": {"value": 40},
            "check_ins": [{"h": 5, "percent": 79}],
        }
        answer = self.answer("forecast", self.file(trial))
        self.assertTrue(20 < answer["stop_h"]["value"] < 26)
        self.assertEqual(answer, self.answer("forecast", self.file(trial)))
        trial["check_ins"].append({"h": 6, "bars": 6, "of": 5})
        self.assertIn("6 of 5", self.refused("forecast", self.file(trial)))

    def test_watch(self):
        lamp = {**BASE["loads"][2], "priority": "nice", "name": "Porch", "use": "always"}
        plan = {**BASE, "loads": [*BASE["loads"], lamp]}
        trial = {"plan": plan, "check_ins": [{"h": 3, "on": ["Box", "Rest"]}]}
        answer = self.answer("watch", self.file(trial), "--at", "4", "--needed", "20")
        self.assertEqual(set(answer), {"now", "next", "helps", "may_start", "card"})
        now = answer["now"]
        self.assertEqual((now["h"], now["needed_h"]), (4, 20))
        self.assertEqual([load["load"] for load in now["on"]], ["Box", "Rest"])
        self.assertLessEqual(now["chance"], now["chance_musts"])
        self.assertEqual([may["load"] for may in answer["may_start"]], ["Lamp", "Porch"])
        self.assertEqual(answer["card"]["nice"], ["Porch"])
        self.assertIn("text", answer["next"][0])
        for wrong, words in (
            ({**trial, "ended": {"h": 5, "why": "trip"}}, "nothing left to watch"),
            ({"supply": BASE["supply"], "expected_w": {"value": 9}}, "follows the loads of a plan"),
        ):
            self.assertIn(words, self.refused("watch", self.file(wrong)))

    def test_capacitor(self):
        base = ["capacitor", "--watts", "610", "--volts", "230", "--hertz", "50"]
        answer = self.answer(*base, "--va", "762", "--stock", "4,5,8,10,12,16,20,25,30")
        self.assertEqual(answer["choose_from"], [10.0, 5.0])
        self.assertAlmostEqual(self.answer(*base, "--pf", "0.8")["nonactive_va"], 457.5, places=1)
        self.assertIn("cannot exceed", self.refused(*base, "--va", "500"))
        self.assertIn("--va", self.refused(*base))
        self.assertIn("--stock", self.refused(*base, "--va", "762", "--stock", "some"))

    def test_bad_files(self):
        self.assertIn("cannot be read", self.refused("plan", "/nowhere/plan.json"))
        self.assertIn("line 2", self.refused("plan", self.file('{"hours": 3,\n oops}')))
        self.assertIn("too deeply", self.refused("profile", self.file("[" * 200_000)))
        self.assertIn("must be finite", self.refused("plan", self.file('{"hours": NaN}')))
        self.assertIn("object", self.refused("plan", self.file("[1, 2]")))

    def test_bad_words(self):
        self.assertIn("invalid choice", self.refused("plann", "x"))
        self.assertIn("between 1 and 20000", self.refused("plan", self.file(BASE), "--draws", "0"))
