"""What goes out: figures on a real small broker, and signed messages to a receiver."""

from __future__ import annotations

import contextlib
import hashlib
import hmac
import json
import queue
import socket
import threading
from datetime import timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from unittest import mock
from urllib.parse import quote

import paho.mqtt.client as paho
from django.core.management import call_command
from django.test import TransactionTestCase, override_settings
from django.utils import timezone
from paho.mqtt.enums import CallbackAPIVersion

from tests.web.base import SiteTest, clear_caches, make_job, make_load, make_supply
from tests.web.test_mqtt import PASSWORD, SmallBroker
from tools.servers import free_port
from web.common.broker import Broker
from web.jobs.access import Access, acting_as
from web.jobs.actions import delete_job
from web.jobs.models import Role
from web.outward import delivering
from web.outward.delivering import Refused, deliver, outside_address
from web.outward.events import note_events
from web.outward.figures import PLANNED, POWER_OUT, figures_of, topics_of
from web.outward.models import BACK, CHECK_IN, STOP, Delivery, Hook, Publishing
from web.outward.publishing import Publisher
from web.plans.outcomes import answer_of, current_plan
from web.trials.models import Trial
from web.watch.actions import begin_watch, power_is_back
from web.watch.page import summary_of

INSIDE = override_settings(HOOKS_INSIDE=["127.0.0.0/8"])


def small_home(job):
    make_load(job, "Lamp", 40.0, kind="led")
    make_supply(job, nominal_wh=400.0)


class FiguresTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.enterContext(acting_as(Access(self.job, Role.VIEWER, "a test")))

    def test_of_a_plan_they_are_the_answers(self):
        small_home(self.job)
        outcome = answer_of(current_plan(self.job)).outcome
        figures = figures_of(self.job, 60.0)
        self.assertEqual((figures.state, figures.hours_left), (PLANNED, outcome.runtime))
        told = {topic.key: topic.payload for topic in topics_of(figures)}
        self.assertEqual(told["hours_left"], f"{outcome.runtime[1]:.1f}")
        self.assertEqual(told["charge"], "unknown")

    def test_of_an_outage_they_are_the_watchs(self):
        small_home(self.job)
        watch = begin_watch(self.job)
        summary = summary_of(watch, 60.0)
        figures = figures_of(self.job, 60.0)
        self.assertEqual((figures.state, figures.hours_left), (POWER_OUT, summary.remaining_h))
        self.assertEqual((figures.chance, figures.charge), (summary.chance, summary.charge[1]))

    def test_of_an_empty_job_nothing_is_made_up(self):
        figures = figures_of(self.job, 60.0)
        self.assertEqual((figures.hours_left, figures.chance), (None, None))
        self.assertIn("No load yet", figures.next_step)


class PublisherTest(TransactionTestCase):
    def setUp(self):
        clear_caches()
        self.port = free_port()
        self.broker = SmallBroker(self.port)
        self.addCleanup(self.broker.stop)
        from django.contrib.auth import get_user_model

        self.job = make_job(get_user_model().objects.create_user("owner"), "Hill house")
        small_home(self.job)
        self.row = Publishing.objects.create(job=self.job, number=self.job.pk, on=True)
        self.seen = queue.Queue()
        self.house = paho.Client(CallbackAPIVersion.VERSION2, "house")
        self.house.username_pw_set("needle", PASSWORD)
        self.house.on_message = lambda _, __, message: self.seen.put(
            (message.topic, message.payload.decode())
        )
        self.house.connect("127.0.0.1", self.port)
        self.house.subscribe([("needle/#", 1), ("found/#", 1)])
        self.house.loop_start()
        self.addCleanup(self.house.loop_stop)
        self.addCleanup(self.house.disconnect)
        url = f"mqtt://needle:{quote(PASSWORD, safe='')}@127.0.0.1:{self.port}"
        self.publisher = Publisher(Broker.at(url), "needle/", "found")
        self.publisher.start()
        self.addCleanup(self.publisher.stop)
        self.assertTrue(self.publisher.connected.wait(10))

    def told(self, count):
        """The next messages, by topic."""
        return dict(self.seen.get(timeout=10) for _ in range(count))

    def test_figures_are_told_once_and_cleared_when_they_are_not_wanted(self):
        self.assertEqual(self.told(1), {"needle/available": "online"})
        changed = self.publisher.refresh()
        told = self.told(changed)
        start = f"needle/jobs/{self.job.pk}"
        self.assertEqual(told[f"{start}/state"], "planned")
        self.assertGreater(float(told[f"{start}/hours_left"]), 1.0)
        described = json.loads(told[f"found/sensor/steady_needle_{self.job.pk}/hours_left/config"])
        self.assertEqual(described["state_topic"], f"{start}/hours_left")
        self.assertEqual(described["availability_topic"], "needle/available")
        self.assertEqual(described["unit_of_measurement"], "h")
        # Unchanged figures are not told again.
        self.assertEqual(self.publisher.refresh(), 0)
        late = queue.Queue()
        guest = paho.Client(CallbackAPIVersion.VERSION2, "guest")
        guest.username_pw_set("needle", PASSWORD)
        guest.on_message = lambda _, __, message: late.put((message.topic, message.retain))
        guest.connect("127.0.0.1", self.port)
        guest.subscribe([(f"{start}/state", 1), ("needle/available", 1)])
        guest.loop_start()
        self.addCleanup(guest.loop_stop)
        retained = dict(late.get(timeout=10) for _ in range(2))
        self.assertTrue(retained[f"{start}/state"])
        delete_job(self.job)
        cleared = self.told(self.publisher.refresh())
        self.assertEqual(set(cleared.values()), {""})
        self.assertEqual(cleared.keys(), told.keys())
        self.assertFalse(Publishing.objects.exists())

    def test_switched_off_it_is_quiet_and_its_end_is_told(self):
        Publishing.objects.update(on=False)
        self.assertEqual(self.publisher.refresh(), 0)
        self.told(1)
        self.publisher.stop()
        self.assertEqual(self.told(1), {"needle/available": "offline"})


class Receiver(BaseHTTPRequestHandler):
    """Takes messages; answers with the next status that is planned, else 204."""

    taken: list = []
    planned: list = []

    def do_POST(self):
        body = self.rfile.read(int(self.headers["Content-Length"])).decode()
        self.taken.append((self.path, self.headers["Steady-Signature"], body))
        self.send_response(self.planned.pop(0) if self.planned else 204)
        self.send_header("Location", "http://127.0.0.1:9/")
        self.end_headers()

    def log_message(self, *_args):
        """Nothing on the console."""


class HookTest(SiteTest):
    def setUp(self):
        super().setUp()
        Receiver.taken.clear()
        Receiver.planned.clear()
        server = ThreadingHTTPServer(("127.0.0.1", 0), Receiver)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        small_home(self.job)
        self.hook = Hook.objects.create(
            job=self.job,
            url=f"http://127.0.0.1:{server.server_port}/told?from=home",
            events=[STOP, CHECK_IN, BACK],
            hours=48.0,
        )

    def about(self):
        return sorted(Delivery.objects.values_list("about", flat=True))

    @INSIDE
    def test_a_foretold_stop_is_told_once_and_signed(self):
        note_events(self.hook)
        self.assertEqual(self.about(), [])
        watch = begin_watch(self.job)
        self.assertEqual([note_events(self.hook) for _ in range(2)], [1, 0])
        self.assertEqual(deliver(), 1)
        self.assertEqual(deliver(), 0)
        ((path, signed, body),) = Receiver.taken
        self.assertEqual(path, "/told?from=home")
        at, given = (part.split("=")[1] for part in signed.split(","))
        wanted = hmac.new(self.hook.secret.encode(), f"{at}.{body}".encode(), hashlib.sha256)
        self.assertEqual(given, wanted.hexdigest())
        message = json.loads(body)
        self.assertEqual((message["event"], message["trial"]), (STOP, watch.pk))
        likely = summary_of(watch, 60.0).remaining_h[1]
        self.assertAlmostEqual(message["remaining_h"]["value"], likely, delta=0.2)

    def test_a_stop_is_foretold_by_the_low_end_of_its_range(self):
        watch = begin_watch(self.job)
        low, likely, _ = summary_of(watch, 60.0).remaining_h
        self.assertLess(low, likely)
        self.hook.events, self.hook.hours = [STOP], low - 0.2
        self.assertEqual(note_events(self.hook), 0)
        self.hook.hours = (low + likely) / 2
        self.assertEqual(note_events(self.hook), 1)

    @INSIDE
    def test_power_that_is_back_and_a_check_in_that_is_due(self):
        watch = begin_watch(self.job, timezone.now() - timedelta(hours=3))
        note_events(self.hook)
        self.assertTrue(any(about.startswith(f"{CHECK_IN} {watch.pk}") for about in self.about()))
        power_is_back(Trial.objects.get(pk=watch.pk), {"percent": 60}, None)
        note_events(self.hook)
        self.assertIn(f"{BACK} {watch.pk}", self.about())
        self.hook.events = []
        Delivery.objects.all().delete()
        self.assertEqual(note_events(self.hook), 0)

    @INSIDE
    def test_a_receiver_that_trickles_is_cut_off(self):
        listener = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(listener.close)
        done = threading.Event()
        self.addCleanup(done.set)

        def trickle():
            theirs, _ = listener.accept()
            with theirs, contextlib.suppress(OSError):
                while not done.wait(0.05):
                    theirs.sendall(b"H")

        threading.Thread(target=trickle, daemon=True).start()
        address = f"http://127.0.0.1:{listener.getsockname()[1]}/"
        with (
            mock.patch.object(delivering, "TIMEOUT_S", 0.4),
            self.assertRaises(Refused),
        ):
            delivering.post(address, "{}", "secret")

    @INSIDE
    def test_what_is_not_taken_is_tried_again_and_given_up(self):
        delivery = Delivery.objects.create(hook=self.hook, about="x", body="{}")
        Receiver.planned += [500, 302]
        for tries, trouble in ((1, "it answered 500"), (2, "it answered 302")):
            self.assertEqual(deliver(), 0)
            delivery.refresh_from_db()
            self.assertEqual((delivery.tries, delivery.trouble), (tries, trouble))
            self.assertGreater(delivery.due_at, timezone.now())
            self.assertEqual(deliver(), 0)
            Delivery.objects.update(due_at=timezone.now())
        self.assertEqual(deliver(), 1)
        Delivery.objects.update(sent_at=None, tries=len(delivering.WAITS))
        Receiver.planned += [500]
        deliver()
        delivery.refresh_from_db()
        self.assertTrue(delivery.failed)
        self.assertEqual(len(Receiver.taken), 4)

    def test_nothing_goes_to_addresses_inside(self):
        Delivery.objects.create(hook=self.hook, about="x", body="{}")
        self.assertEqual(deliver(), 0)
        self.assertIn("inside", Delivery.objects.get().trouble)
        self.assertEqual(Receiver.taken, [])
        for host in (
            "127.0.0.1",
            "10.1.2.3",
            "192.168.1.1",
            "169.254.1.1",
            "::1",
            "0.0.0.0",
            "fe80::1",
            "::ffff:127.0.0.1",
            "224.0.0.1",
        ):
            with self.subTest(host=host), self.assertRaisesRegex(Refused, "inside"):
                outside_address(host, 80)
        with self.assertRaisesRegex(Refused, "not known"):
            outside_address("nobody.invalid", 80)

    def test_a_name_that_leads_both_ways_is_refused(self):
        both = [(2, 1, 6, "", (address, 80)) for address in ("93.184.216.34", "127.0.0.1")]
        known = mock.patch("socket.getaddrinfo", return_value=both)
        with known, self.assertRaisesRegex(Refused, "inside"):
            outside_address("two-faced.example", 80)
        with mock.patch("socket.getaddrinfo", return_value=both[:1]):
            self.assertEqual(outside_address("one.example", 80), "93.184.216.34")

    def test_the_owners_page(self):
        url = self.url("outward:index")
        page = self.client.post(
            url, {"url": "https://hall.example/x", "events": [STOP], "hours": "2 h"}
        )
        made = Hook.objects.get(url="https://hall.example/x")
        self.assertContains(page, made.secret)
        self.assertEqual((made.hours, made.events), (2.0, [STOP]))
        self.assertNotContains(self.client.get(url), made.secret)
        refused = self.client.post(url, {"url": "ftp://x.example", "events": [STOP], "hours": "2"})
        self.assertEqual(refused.status_code, 422)
        self.client.post(self.url("outward:remove", made.pk))
        self.assertFalse(Hook.objects.filter(pk=made.pk).exists())

    def test_publishing_is_for_whom_the_operator_named(self):
        self.client.post(self.url("outward:publish"), {"on": "on"})
        self.assertFalse(Publishing.objects.exists())
        with override_settings(
            MQTT_URL="mqtt://x", MQTT_OUT="needle", MQTT_USERS=[self.user.username]
        ):
            self.assertContains(self.client.get(self.url("outward:index")), "On the broker")
            self.client.post(self.url("outward:publish"), {"on": "on"})
        self.assertTrue(Publishing.objects.get().wanted)

    @INSIDE
    def test_the_command_looks_once(self):
        begin_watch(self.job)
        call_command("send", "--once", stdout=mock.Mock())
        self.assertEqual(len(Receiver.taken), 1)
