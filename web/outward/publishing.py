"""Figures of jobs on an MQTT broker: retained, with availability, so that a house finds them.

Topics are ``BASE/jobs/NUMBER/KEY`` and ``BASE/available`` ("online" or, also when this process
dies, "offline"). Where a prefix for discovery is set, each figure is described once, retained, at
``PREFIX/sensor/DEVICE/KEY/config``: a JSON object with its name, topic, unit and device, as
bridges of home automation commonly look for.
"""

from __future__ import annotations

import json
import logging
import threading
from collections.abc import Iterator
from typing import Any

from web.common.broker import Broker
from web.jobs.access import Access, acting_as
from web.jobs.models import Job, Role
from web.outward.figures import Figures, Topic, figures_of, topics_of
from web.outward.models import Publishing

log = logging.getLogger("steady.outward")

QOS = 1
ONLINE, OFFLINE = "online", "offline"
#: How long one job's figures are waited for, s.
WAIT_S = 20.0


class Publisher:
    """Publishes what changed of the jobs whose owners want it.

    Parameters
    ----------
    broker : Broker
    base : str
        First part of all topics.
    discovery : str
        Prefix at which the house looks for sensors; empty for none.
    """

    def __init__(self, broker: Broker, base: str, discovery: str = "") -> None:
        self.broker, self.base, self.discovery = broker, base.strip("/"), discovery.strip("/")
        self.client = broker.client(f"steady-needle-out-{self.base.replace('/', '-')}"[:60])
        self.client.will_set(f"{self.base}/available", OFFLINE, QOS, retain=True)
        self.client.on_connect = self._connected
        self.connected = threading.Event()
        #: What each topic holds; empty again after each connection.
        self.held: dict[str, str] = {}

    def start(self) -> None:
        """Connect in the client's own thread, and again when needed."""
        self.client.connect_async(self.broker.host, self.broker.port, keepalive=30)
        self.client.loop_start()

    def stop(self) -> None:
        """Say that it goes, and disconnect."""
        if self.client.is_connected():
            told = self.client.publish(f"{self.base}/available", OFFLINE, QOS, retain=True)
            told.wait_for_publish(5)
        self.client.disconnect()
        self.client.loop_stop()

    def _connected(self, client: Any, _: Any, __: Any, reason: Any, ___: Any) -> None:
        if reason.is_failure:
            log.warning("The broker refuses: %s", reason)
            return
        self.held.clear()
        client.publish(f"{self.base}/available", ONLINE, QOS, retain=True)
        self.connected.set()

    def refresh(self) -> int:
        """Publish what changed; return how many topics did."""
        if not self.client.is_connected():
            return 0
        changed = 0
        for row in Publishing.objects.select_related("job", "job__owner"):
            try:
                if row.job is not None and row.wanted:
                    changed += self._tell(row, row.job)
                elif row.is_out:
                    changed += self._clear(row)
            except Exception:
                # One job's fault keeps no other one's figures back.
                log.exception("%s cannot be published", row)
        return changed

    def _tell(self, row: Publishing, job: Job) -> int:
        with acting_as(Access(job, Role.VIEWER, "the broker")):
            figures = figures_of(job, WAIT_S)
        if figures is None:
            return 0
        Publishing.objects.filter(pk=row.pk, is_out=False).update(is_out=True)
        return sum(self._put(*told) for told in self._messages(row.number, job.name, figures))

    def _clear(self, row: Publishing) -> int:
        """Empty the topics of a job that is not published any more."""
        messages = self._messages(row.number, "", Figures("", ""))
        changed = sum(self._put(topic, "") for topic, _ in messages)
        if row.job_id is None:
            Publishing.objects.filter(pk=row.pk).delete()
        else:
            Publishing.objects.filter(pk=row.pk).update(is_out=False)
        return changed

    def _messages(self, number: int, name: str, figures: Figures) -> Iterator[tuple[str, str]]:
        """Topics and payloads of a job."""
        for topic in topics_of(figures):
            if self.discovery:
                device = f"steady_needle_{number}"
                address = f"{self.discovery}/sensor/{device}/{topic.key}/config"
                yield address, json.dumps(self._description(number, name, topic))
            yield f"{self.base}/jobs/{number}/{topic.key}", topic.payload

    def _description(self, number: int, name: str, topic: Topic) -> dict[str, Any]:
        device = f"steady_needle_{number}"
        described: dict[str, Any] = {
            "name": topic.name,
            "unique_id": f"{device}_{topic.key}",
            "state_topic": f"{self.base}/jobs/{number}/{topic.key}",
            "availability_topic": f"{self.base}/available",
            "device": {"identifiers": [device], "name": name},
        }
        if topic.unit:
            described |= {"unit_of_measurement": topic.unit}
        if topic.kind:
            described |= {"device_class": topic.kind}
        return described

    def _put(self, topic: str, payload: str) -> bool:
        """Publish a payload, unless the topic holds it."""
        if self.held.get(topic) == payload:
            return False
        self.client.publish(topic, payload, QOS, retain=True)
        self.held[topic] = payload
        return True
