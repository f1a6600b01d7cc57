"""Bench: imports, live sessions, and what they add to a load."""

import gzip
from datetime import timedelta
from io import BytesIO
from unittest import mock

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import DatabaseError
from django.test import override_settings
from django.utils import timezone

from needle.document import DocumentError
from needle.measure.capture import as_csv, read_capture
from needle.standin.appliances import timeline
from needle.standin.meters import plug_meter
from tests.web.base import HTMX, SiteTest, make_job, make_load, make_supply
from web.bench import actions
from web.bench.live import look
from web.bench.models import Capture, Session, pack, unpack
from web.loads.models import Load


def box_csv(hours=6.0, seed=3):
    line = timeline("cold-box", seed)
    return as_csv(plug_meter(seed).capture(line, 0, hours * 3600)).encode()


class ImportTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.load = make_load(self.job)
        make_supply(self.job)

    def upload(self, content, name="box.csv", **data):
        file = SimpleUploadedFile(name, content, content_type="text/csv")
        return self.client.post(self.url("bench:upload", self.load.pk), {"file": file, **data})

    def test_preview_then_evidence(self):
        self.upload(box_csv())
        capture = Capture.objects.get()
        self.assertFalse(capture.kept)
        self.assertEqual(self.load.readings.count(), 1)
        page = self.client.get(self.url("bench:capture", capture.pk))
        for words in ("cycling", "Save as evidence", "Understood: watts, volts", "complete cycles"):
            self.assertContains(page, words)
        self.client.post(self.url("bench:keep", capture.pk))
        reading = self.load.readings.get(type="capture")
        self.assertEqual(reading.data["pattern"], "cycling")
        capture.refresh_from_db()
        self.assertEqual((capture.kept, bytes(capture.raw)), (True, b""))
        profile = Load.objects.get(pk=self.load.pk).profile()
        self.assertLess(profile.mean_w.spread, 0.15)
        self.assertContains(self.client.get(self.url("loads:load", self.load.pk)), "over ")

    def test_kept_twice_it_counts_once(self):
        self.upload(box_csv(2))
        capture = Capture.objects.get()
        for _ in range(2):
            self.client.post(self.url("bench:keep", capture.pk))
        self.assertEqual(self.load.readings.filter(type="capture").count(), 1)

    def test_columns_can_be_given_their_meaning(self):
        text = "when;x;y\n" + "".join(f"{i};{1 + (i % 60 > 20)},5;230\n" for i in range(400))
        self.upload(text.encode())
        capture = Capture.objects.get()
        page = self.client.get(self.url("bench:capture", capture.pk))
        self.assertContains(page, "no time column among when, x, y")
        self.assertContains(page, "“x” is")
        kept = self.client.post(self.url("bench:keep", capture.pk), follow=True)
        self.assertContains(kept, "It cannot be evidence")
        for name, *more in (("bench:series",), ("bench:download", "capture.csv")):
            url = self.url(name, capture.pk, *more)
            self.assertEqual(self.client.get(url).status_code, 404)
        form = {
            "name": "Mine",
            "instrument": "clamp",
            "version": capture.version,
            "column0": "time",
            "column1": "amps",
            "column2": "volts",
        }
        answer = self.client.post(self.url("bench:capture", capture.pk), form)
        self.assertEqual(answer.status_code, 302)
        capture.refresh_from_db()
        self.assertAlmostEqual(float(capture.to_core().columns["amps"].max()), 2.5)
        page = self.client.get(self.url("bench:capture", capture.pk))
        self.assertContains(page, "upper bound")

    def test_a_correction_can_be_undone_without_keeping_the_file_twice(self):
        self.upload(box_csv(4))
        capture = Capture.objects.get()
        form = {"name": "Renamed", "instrument": "logger", "version": capture.version}
        self.client.post(self.url("bench:capture", capture.pk), form)
        change = self.job.changes.first()
        self.assertNotIn('"raw"', change.before)
        self.client.post(self.url("jobs:undo", change.pk))
        capture.refresh_from_db()
        self.assertEqual((capture.name, capture.instrument), ("box.csv", "plug"))
        self.assertTrue(gzip.decompress(bytes(capture.raw)).startswith(b"time,"))

    def test_only_amps_take_the_jobs_volts(self):
        self.upload(b"time,amps\n" + b"".join(b"%d,0.5\n" % i for i in range(100)))
        self.assertEqual(Capture.objects.get().volts, 230.0)

    def test_bad_corrections_are_said(self):
        self.upload(box_csv(1))
        capture = Capture.objects.get()
        base = {"name": "Box", "instrument": "plug", "version": capture.version}
        for change, said in [
            ({"zone": "Mars/North"}, "not a time zone"),
            ({"volts": "5 W"}, "wants volts"),
            ({"column0": ""}, "No time column"),
            ({"version": 99}, "changed in another window"),
        ]:
            with self.subTest(said=said):
                answer = self.client.post(self.url("bench:capture", capture.pk), {**base, **change})
                self.assertContains(answer, said, status_code=422)

    def test_files_that_are_none(self):
        for content, said in [
            (b"", "empty"),
            (b"\xff\xfe\x00\x01", "UTF-8"),
            (b"\x89PNG\r\n\x1a\n\x00\x00", "UTF-8"),
            (b"time,watts\n0,1\n", "two rows"),
        ]:
            with self.subTest(said=said):
                self.assertContains(self.upload(content), said, status_code=422)
        self.assertFalse(Capture.objects.exists())

    def test_a_removed_capture_takes_its_evidence_and_comes_back(self):
        self.upload(box_csv(2))
        capture = Capture.objects.get()
        self.client.post(self.url("bench:keep", capture.pk))
        self.client.post(self.url("bench:discard", capture.pk))
        self.assertFalse(self.load.readings.live().filter(type="capture").exists())
        self.assertNotContains(self.client.get(self.url("bench:index")), "box.csv</a>")
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertTrue(self.load.readings.live().filter(type="capture").exists())

    def test_a_failure_midway_leaves_no_half_capture(self):
        self.upload(box_csv(2))
        capture = Capture.objects.get()
        failing = mock.patch("web.bench.actions.add_reading", side_effect=DatabaseError)
        with failing, self.assertRaises(DatabaseError):
            self.client.post(self.url("bench:keep", capture.pk))
        capture.refresh_from_db()
        self.assertFalse(capture.kept)
        self.assertTrue(gzip.decompress(bytes(capture.raw)).startswith(b"time,"))

    def test_the_chart_keeps_every_spike(self):
        watts = np.full(50_000, 10.0)
        watts[31_337] = 1234.0
        text = "time,watts\n" + "".join(f"{i},{w:g}\n" for i, w in enumerate(watts))
        self.upload(text.encode())
        capture = Capture.objects.get()
        data = self.client.get(self.url("bench:series", capture.pk)).json()
        self.assertLess(len(data["high"]), 2000)
        self.assertEqual(max(data["high"]), 1234.0)
        near = self.client.get(
            self.url("bench:series", capture.pk), {"from": "31330", "to": "31345"}
        ).json()
        self.assertEqual((len(near["high"]), max(near["high"])), (16, 1234.0))
        odd = self.client.get(self.url("bench:series", capture.pk), {"from": "x", "to": "nan"})
        self.assertEqual(max(odd.json()["high"]), 1234.0)

    def test_corrected_levels_move_the_profile(self):
        self.upload(box_csv(30, seed=3))
        capture = Capture.objects.get()
        self.client.post(self.url("bench:keep", capture.pk))
        before = self.load.readings.get(type="capture").data
        self.assertTrue(before["rarer"])
        capture.refresh_from_db()
        form = {"bounds": "20 W", "names_text": "quiet, running", "version": capture.version}
        answer = self.client.post(self.url("bench:levels", capture.pk), form)
        self.assertRedirects(answer, self.url("bench:capture", capture.pk))
        self.assertContains(self.client.get(self.url("bench:capture", capture.pk)), "quiet")
        after = self.load.readings.get(type="capture").data
        self.assertFalse(after["rarer"])
        for bad, said in [
            ({"bounds": "5 kWh"}, "wants a rate"),
            ({"bounds": "0"}, "no bound"),
            ({"bounds": ",".join(str(i) for i in range(1, 20))}, "At most"),
            ({"version": 99}, "changed in another window"),
        ]:
            capture.refresh_from_db()
            data = {"bounds": "", "names_text": "", "version": capture.version, **bad}
            answer = self.client.post(self.url("bench:levels", capture.pk), data)
            self.assertContains(answer, said, status_code=422)

    def test_downloads_read_back(self):
        self.upload(box_csv(1))
        capture = Capture.objects.get()
        text = self.client.get(self.url("bench:download", capture.pk, "capture.csv")).content
        self.assertEqual(len(read_capture(text).time_s), 3600)
        svg = self.client.get(self.url("bench:download", capture.pk, "strip.svg")).content
        self.assertTrue(svg.startswith(b"<?xml"))

    def test_packed_columns_come_back(self):
        core = read_capture(box_csv(0.5))
        again = unpack(pack(core))
        np.testing.assert_array_equal(again.time_s, core.time_s)
        np.testing.assert_allclose(again.columns["watts"], core.columns["watts"], rtol=1e-6)
        self.assertLess(len(pack(core)), len(box_csv(0.5)) / 3)
        self.assertIsInstance(BytesIO(pack(core)).read(2), bytes)

    def test_foreign_captures_and_sessions_are_a_404(self):
        job = make_job(self.other)
        load = make_load(job)
        capture = Capture.objects.create(
            load=load, name="Theirs", packed=pack(read_capture("time,watts\n0,1\n1,2\n2,3\n"))
        )
        session = Session.objects.create(load=load, standin="led")
        for name, pk in (
            ("bench:capture", capture.pk),
            ("bench:series", capture.pk),
            ("bench:session", session.pk),
            ("bench:upload", load.pk),
        ):
            self.assertEqual(self.client.get(self.url(name, pk)).status_code, 404, name)
        for name, pk in (
            ("bench:keep", capture.pk),
            ("bench:stop", session.pk),
            ("bench:keep-spot", session.pk),
        ):
            self.assertEqual(self.client.post(self.url(name, pk)).status_code, 404, name)
        answer = self.client.post(
            self.url("bench:index"),
            {"load": load.pk, "standin": "led", "meter": "plug", "speed": "60"},
        )
        self.assertEqual(answer.status_code, 422)


class SessionTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.load = make_load(self.job)
        make_supply(self.job)
        self.session = Session.objects.create(
            load=self.load,
            standin="cold-box",
            seed=3,
            clock_s=7 * 3600.0,
            setting="eco",
            room_c=24.0,
            reset_s=0.0,
        )

    def post(self, name, **data):
        return self.client.post(self.url(f"bench:{name}", self.session.pk), data, **HTMX)

    def test_starting_one(self):
        answer = self.client.post(
            self.url("bench:index"),
            {
                "load": self.load.pk,
                "standin": "heater",
                "meter": "plug",
                "speed": "600",
                "seed": "5",
                "room_c": "21 °C",
            },
        )
        session = Session.objects.first()
        self.assertRedirects(answer, self.url("bench:session", session.pk))
        self.assertEqual((session.speed, session.room_c), (600, 21.0))
        self.assertContains(
            self.client.get(self.url("bench:index")), "1 running"
        ) if False else None

    def test_a_poll_answers_with_what_moves_and_needs_few_queries(self):
        url = self.url("bench:session", self.session.pk)
        with self.assertNumQueries(4):
            answer = self.client.get(url, **HTMX)
        for words in ("real power", "Last 15 minutes", "complete cycle", "Long enough?"):
            self.assertContains(answer, words)
        self.assertNotContains(answer, "<html")

    def test_a_reload_shows_the_same_moment(self):
        now = timezone.now()
        first = self.session.now_s(now)
        again = Session.objects.get(pk=self.session.pk)
        self.assertEqual(again.now_s(now), first)
        self.assertAlmostEqual(again.now_s(now + timedelta(seconds=10)) - first, 600, places=6)

    def test_speed_changes_from_where_the_clock_stands(self):
        before = self.session.now_s()
        self.post("speed", speed="600")
        self.session.refresh_from_db()
        self.assertEqual(self.session.speed, 600)
        self.assertGreaterEqual(self.session.now_s(), before)
        self.post("speed", speed="9999")
        self.session.refresh_from_db()
        self.assertEqual(self.session.speed, 600)

    def test_keeping_readings(self):
        answer = self.post("keep-spot")
        self.assertContains(answer, 'id="answer-bar"')
        spot = self.load.readings.get(type="spot")
        self.assertIn(spot.data["state"], ("running", "resting"))
        self.assertEqual((spot.data["setting"], spot.data["room_c"]), ("eco", 24.0))
        self.assertTrue(spot.to_core().agreement().consistent)
        self.post("keep-start")
        start = self.load.readings.get(type="start")
        true = max(segment.inrush_va for segment in timeline("cold-box", 3).segments)
        self.assertAlmostEqual(start.data["amps"] * start.data["volts"] / true, 1, delta=0.12)
        self.post("keep-counter")
        run = self.load.readings.get(type="energy")
        self.assertAlmostEqual(run.data["hours"], 7.0, delta=0.3)

    def test_a_counter_kept_again_before_its_reset_counts_once(self):
        for later_s in (0, 3600):
            Session.objects.filter(pk=self.session.pk).update(
                clock_s=self.session.clock_s + later_s
            )
            self.post("keep-counter")
        run = self.load.readings.get(type="energy")
        self.assertAlmostEqual(run.data["hours"], 8.0, delta=0.3)

    def test_a_reset_counter_begins_again(self):
        self.post("reset")
        self.session.refresh_from_db()
        self.assertLess(look(self.session).counter_h, 0.5)
        self.assertContains(self.post("keep-counter"), "has not moved yet")

    def test_a_counter_that_was_not_reset_is_no_evidence(self):
        self.session.reset_s = None
        self.session.save()
        live = look(self.session)
        self.assertGreater(live.counter_wh, 370)
        self.assertContains(self.post("keep-counter"), "not reset since somebody else")
        self.assertFalse(self.load.readings.filter(type="energy").exists())
        self.post("reset")
        self.session.refresh_from_db()
        self.assertLess(look(self.session).counter_wh, 30)

    def test_a_clamp_around_the_whole_cable_is_said(self):
        self.session.whole_cable = True
        self.session.save()
        self.assertContains(self.post("keep-start"), "currents cancel")
        self.assertFalse(self.load.readings.filter(type="start").exists())

    def test_no_start_yet(self):
        fresh = Session.objects.create(load=self.load, standin="cold-box", seed=3, speed=1)
        answer = self.client.post(self.url("bench:keep-start", fresh.pk), **HTMX)
        self.assertContains(answer, "No start seen yet")

    def test_tallying_by_ear(self):
        self.assertContains(self.post("tally", keep="yes"), "Not yet")
        for _ in range(3):
            self.post("tally")
            Session.objects.filter(pk=self.session.pk).update(
                clock_s=Session.objects.get(pk=self.session.pk).now_s() + 400
            )
        self.post("tally", keep="yes")
        edges = self.load.readings.get(type="tally").data["edges"]
        self.assertEqual([name for name, _ in edges], ["on", "off", "on"])
        self.session.refresh_from_db()
        self.assertEqual(self.session.tally, [])

    def test_of_two_hands_that_tally_neither_is_lost_and_it_is_kept_once(self):
        first, second, third = (Session.objects.get(pk=self.session.pk) for _ in range(3))
        for session, later_s in ((first, 0), (second, 400), (third, 800)):
            session.clock_s += later_s
            actions.tally(session)
        actions.keep_tally(second)
        with self.assertRaises(DocumentError):
            actions.keep_tally(third)
        edges = self.load.readings.get(type="tally").data["edges"]
        self.assertEqual([name for name, _ in edges], ["on", "off", "on"])

    def test_a_stopped_session_becomes_evidence_once(self):
        for _ in range(2):
            answer = self.client.post(
                self.url("bench:stop", self.session.pk), {"name": "Seven hours"}
            )
        capture = Capture.objects.get()
        self.assertRedirects(answer, self.url("bench:capture", capture.pk))
        self.assertTrue(capture.kept)
        self.assertEqual(self.load.readings.filter(type="capture").count(), 1)
        page = self.client.get(self.url("bench:session", self.session.pk))
        self.assertRedirects(page, self.url("bench:capture", capture.pk))

    def test_a_kill_while_stopping_leaves_it_running(self):
        failing = mock.patch("web.bench.actions.save_new", side_effect=DatabaseError)
        with failing, self.assertRaises(DatabaseError):
            actions.stop_session(self.session, "x")
        self.session.refresh_from_db()
        self.assertFalse(self.session.stopped)
        self.assertFalse(Capture.objects.exists())

    def test_the_bench_finds_what_the_twin_does(self):
        self.session.clock_s, self.session.stopped = 20 * 3600.0, True
        live = look(self.session)
        said = {finding.what: finding.says for finding in live.findings}
        line = timeline("cold-box", 3)
        running = next(segment.watts for segment in line.segments if segment.state == "running")
        shown = float(said["running"].split("\u00a0")[0])
        self.assertAlmostEqual(shown / running, 1, delta=0.06)
        self.assertIn("complete cycles seen", live.enough_words)
        self.assertGreater(live.enough, 0.5)

    def test_too_short_to_keep(self):
        fresh = Session.objects.create(load=self.load, standin="led", speed=1)
        answer = self.client.post(self.url("bench:stop", fresh.pk), {})
        self.assertRedirects(answer, self.url("bench:index"))
        self.assertFalse(Capture.objects.exists())


class RealMeterTest(SiteTest):
    """What a real meter shows, typed as it stands."""

    def setUp(self):
        super().setUp()
        self.load = make_load(self.job, "Cold box")

    def post(self, name, **typed):
        return self.client.post(self.url(name, self.load.pk), {"state": "running", **typed})

    def test_figures_are_checked_before_they_are_kept(self):
        agreeing = self.post("bench:check-meter", watts="92", volts="230", amps="0.62", pf="0.65")
        self.assertContains(agreeing, "The readings agree")
        off = self.post("bench:check-meter", watts="92", volts="230", amps="0.9", pf="0.65")
        self.assertContains(off, "✕")
        alone = self.post("bench:check-meter", watts="92")
        self.assertContains(alone, "Enter one more figure from the meter")
        self.assertEqual(self.load.readings.filter(type="spot").count(), 0)

    def test_a_reading_is_kept_and_the_load_stays_chosen(self):
        kept = self.post("bench:keep-meter", watts="92", volts="230", instrument="plug")
        self.assertRedirects(kept, f"{self.url('bench:index')}?load={self.load.pk}")
        data = self.load.readings.get(type="spot").data
        self.assertEqual((data["watts"], data["state"]), (92.0, "running"))

    def test_what_is_refused_is_kept_in_its_field(self):
        refused = self.post("bench:keep-meter", watts="92", pf="1.4")
        self.assertContains(refused, 'value="1.4"', status_code=422)
        self.assertEqual(self.post("bench:keep-meter").status_code, 422)

    def test_states_read_before_are_a_tap_away(self):
        self.post("bench:keep-meter", watts="92")
        self.load.readings.filter(type="spot").update(data={"state": "defrost", "watts": 160.0})
        page = self.client.get(self.url("bench:index"), {"load": self.load.pk})
        self.assertContains(page, 'value="defrost"')
        # One that came without its state.
        self.load.readings.filter(type="spot").update(data={"watts": 160.0})
        page = self.client.get(self.url("bench:index"), {"load": self.load.pk})
        self.assertEqual(page.status_code, 200)

    def test_a_simulated_appliance_is_chosen_by_the_kind_of_load(self):
        started = self.client.post(
            self.url("bench:index"),
            {"load": self.load.pk, "meter": "plug", "speed": 60, "seed": 1, "standin": ""},
        )
        self.assertEqual(started.status_code, 302)
        self.assertEqual(Session.objects.get(load=self.load).standin, "cold-box")

    def test_a_code_for_the_phone_where_the_site_is_heard(self):
        def page(host):
            return self.client.get(self.url("bench:index"), headers={"host": host})

        with override_settings(ALLOWED_HOSTS=["127.0.0.1", "house.lan", "192.168.7.20"]):
            self.assertContains(page("127.0.0.1:8000"), "only reachable from this computer")
            self.assertContains(page("192.168.7.20:8000"), "Code of http://192.168.7.20:8000/")
            with override_settings(HOST="0.0.0.0"):
                self.assertContains(page("127.0.0.1:8000"), "Code of http://house.lan:")
            # An address that no code can hold leaves its query out.
            long = f"{self.url('bench:index')}?volts={'x' * 1900}&amps={'x' * 1900}"
            whole = self.client.get(long, headers={"host": "192.168.7.20:8000"})
            self.assertContains(
                whole, f"Code of http://192.168.7.20:8000{self.url('bench:index')}<"
            )
