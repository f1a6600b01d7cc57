"""``manage.py send``: tell the house what changed, over MQTT and to webhooks, until stopped."""

from __future__ import annotations

import logging
import signal
import threading
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError
from django.db import DatabaseError

from web.common.broker import Broker
from web.outward.delivering import deliver
from web.outward.events import note_events
from web.outward.models import Hook
from web.outward.publishing import Publisher

log = logging.getLogger("steady.outward")
#: How often everything is looked at, s.
EVERY_S = 30.0


class Command(BaseCommand):
    help = "Publishes figures on the MQTT broker of STEADY_MQTT_URL, and sends to webhooks."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--once", action="store_true", help="look once, and end")

    def handle(self, *args: Any, **options: Any) -> None:
        publisher = self._publisher()
        stopping = threading.Event()
        for number in (signal.SIGINT, signal.SIGTERM):
            if threading.current_thread() is threading.main_thread():
                signal.signal(number, lambda *_: stopping.set())
        if publisher is not None:
            publisher.start()
            publisher.connected.wait(10)
        self.stdout.write("Sending what changes.")
        try:
            while True:
                turn(publisher)
                if options["once"] or stopping.wait(EVERY_S):
                    return
        finally:
            if publisher is not None:
                publisher.stop()

    def _publisher(self) -> Publisher | None:
        """The publisher; None where nothing is to be published."""
        if not (settings.MQTT_URL and settings.MQTT_OUT):
            return None
        try:
            broker = Broker.at(settings.MQTT_URL, settings.MQTT_CA)
            return Publisher(broker, settings.MQTT_OUT, settings.MQTT_DISCOVERY)
        except (ValueError, OSError) as error:
            raise CommandError(str(error)) from None


def turn(publisher: Publisher | None) -> None:
    """Look at everything once; what fails now is tried again the next time."""
    try:
        if publisher is not None:
            publisher.refresh()
        for hook in Hook.objects.filter(job__removed_at=None).select_related("job", "job__owner"):
            try:
                note_events(hook)
            except Exception:
                # One job's fault keeps no other one's messages back.
                log.exception("Webhook %s: its events cannot be looked at", hook.pk)
        deliver()
    except DatabaseError:
        log.exception("The database is busy: told again in a moment")
