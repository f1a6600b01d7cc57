"""Captures, live sessions and the tokens of loggers."""

from __future__ import annotations

import io
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

import numpy as np
from django.conf import settings
from django.core.exceptions import ValidationError
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.db.models.functions import Coalesce
from django.utils import timezone

from needle.document import DocumentError
from needle.measure.analysis import Analysis, Corrections, analyse
from needle.measure.capture import Capture as CoreCapture
from needle.measure.instruments import INSTRUMENTS
from needle.message import Message, from_stored
from needle.standin.appliances import APPLIANCES, timeline
from needle.standin.meters import Meter
from needle.standin.timeline import Timeline
from needle.words import is_stored
from web.common.models import ChoiceField, Record
from web.common.quotas import Quota, bytes_of
from web.common.stored_bytes import BytesField, StoredBytes
from web.common.validation import in_our_time
from web.loads.models import Load, Reading

SOURCES = {"file": "file", "bench": "bench session", "live": "logger"}
SPEEDS = (1, 60, 600)
INSTRUMENT_NAMES = [(key, instrument.name) for key, instrument in INSTRUMENTS.items()]
METERS = {key: INSTRUMENTS[key].name for key in ("plug", "logger")}


def pack(capture: CoreCapture) -> bytes:
    """A capture's columns, compressed for one database cell."""
    buffer = io.BytesIO()
    columns = {name: column.astype(np.float32) for name, column in capture.columns.items()}
    np.savez_compressed(buffer, time_s=capture.time_s, **columns)  # type: ignore[arg-type]
    return buffer.getvalue()


def unpack(packed: bytes) -> CoreCapture:
    """The capture that :func:`pack` compressed.

    Raises
    ------
    DocumentError
        There is none, as the file has not been parsed yet.
    """
    if not packed:
        raise DocumentError("", "what its columns mean is not understood yet")
    with np.load(io.BytesIO(packed)) as stored:
        columns = {n: stored[n].astype(float) for n in stored.files if n != "time_s"}
        return CoreCapture(stored["time_s"], columns)


class Capture(Record):
    """A recorded series of a load: one row, compressed columns.

    While ``kept`` is false it is an import under preview: ``raw`` still has the file, so that it
    can be parsed again with corrections, and it is not evidence.
    """

    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="captures")
    reading = models.OneToOneField(
        Reading, on_delete=models.SET_NULL, null=True, related_name="capture"
    )
    name = models.CharField(max_length=80)
    source = ChoiceField(max_length=8, default="file", choices=list(SOURCES.items()))
    kept = models.BooleanField(default=False)
    raw = BytesField(default=bytes, help_text="The file, gzipped, while under preview.")
    packed = BytesField(default=bytes)
    begins = models.DateTimeField(null=True, blank=True, validators=[in_our_time])
    rows = models.PositiveIntegerField(default=0)
    interval_s = models.FloatField(default=1.0)
    header = models.JSONField(default=list)
    meanings = models.JSONField(default=dict)
    zone = models.CharField(max_length=60, blank=True)
    volts = models.FloatField(
        null=True, blank=True, validators=[MinValueValidator(0.1), MaxValueValidator(1000)]
    )
    instrument = models.CharField(max_length=12, default="plug")
    setting = models.CharField(max_length=60, blank=True)
    room_c = models.FloatField(null=True, blank=True)
    notices = models.JSONField(default=list)
    bounds_w = models.JSONField(default=list, help_text="Corrected bounds between levels, W.")
    names = models.JSONField(default=list, help_text="Corrected names of levels, lowest first.")
    note = models.CharField(max_length=400, blank=True)

    HISTORY_SKIPS = ("raw",)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return self.name

    def clean(self) -> None:
        texts = (self.header, self.names, list(self.meanings.values()))
        if not all(isinstance(text, str) for listed in texts for text in listed):
            raise ValidationError("Its header and names are texts.")
        if not all(map(is_stored, self.notices)):
            raise ValidationError("Its notices are not known.")
        for bound in self.bounds_w:
            if isinstance(bound, bool) or not isinstance(bound, int | float) or not bound > 0:
                raise ValidationError("Bounds between levels are W above 0.")
        if self.instrument not in INSTRUMENTS:
            raise ValidationError(f"“{self.instrument}” is no instrument.")

    @classmethod
    def quota_of(cls, person: Any) -> Quota:
        theirs = cls.objects.filter(load__job__owner=person)
        most = settings.MOST_CAPTURE_MB * 1_000_000
        return Quota("captures", bytes_of(theirs, "raw", "packed"), most, bytes=True)

    def make_room(self) -> None:
        """Refuse to be stored where its owner's captures would exceed their quota.

        Raises
        ------
        QuotaExceededError
        """
        self.quota_of(self.load.job.owner).refuse_more(len(self.raw) + len(self.packed))

    @property
    def messages(self) -> list[Message | str]:
        """What reading its file found."""
        return [from_stored(notice) for notice in self.notices]

    def to_core(self) -> CoreCapture:
        return unpack(bytes(self.packed))

    def analysis(self) -> Analysis:
        """Its analysis; cached while unchanged."""
        known = Corrections(tuple(self.bounds_w), tuple(self.names))
        # What lies in the storage is known by its reference: it is fetched once it is unpacked.
        packed = self.packed if isinstance(self.packed, StoredBytes) else bytes(self.packed)
        return _analysis(self.pk, packed, self.volts, known)


@lru_cache(maxsize=16)
def _analysis(
    pk: int | None, packed: bytes | StoredBytes, volts: float | None, known: Corrections
) -> Analysis:
    return analyse(unpack(bytes(packed)), volts, known)


class Session(Record):
    """A simulated appliance on a meter; everything follows from its seed and its clock.

    The clock was at ``clock_s`` at ``clock_at`` and runs ``speed`` times as fast as real time;
    nothing runs on the server in between.
    """

    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="sessions")
    standin = ChoiceField(
        max_length=16,
        choices=[(appliance.key, appliance.name) for appliance in APPLIANCES.values()],
    )
    meter = ChoiceField(max_length=12, default="plug", choices=list(METERS.items()))
    seed = models.PositiveIntegerField(
        default=1, validators=[MinValueValidator(0), MaxValueValidator(1_000_000)]
    )
    speed = models.PositiveSmallIntegerField(default=60)
    clock_s = models.FloatField(default=0.0)
    clock_at = models.DateTimeField(default=timezone.now, validators=[in_our_time])
    reset_s = models.FloatField(
        null=True,
        help_text="Clock when the counter was reset; empty: it still shows the last user's.",
    )
    whole_cable = models.BooleanField(
        "clamp around the whole cable",
        default=False,
        help_text="A mistake to try: see what it reads.",
    )
    setting = models.CharField(max_length=60, blank=True)
    room_c = models.FloatField(null=True, blank=True)
    note = models.CharField(max_length=400, blank=True)
    tally = models.JSONField(default=list, help_text='[["on", clock seconds], …]')
    stopped = models.BooleanField(default=False)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return f"{self.load} on a {self.get_meter_display()}"

    #: Longest course that a session can follow, s.
    MOST_S = 8 * 86_400.0 - 60

    def now_s(self, now: datetime | None = None) -> float:
        """The session's clock, s."""
        if self.stopped:
            return self.clock_s
        gone = ((now or timezone.now()) - self.clock_at) / timedelta(seconds=1)
        return min(self.MOST_S, self.clock_s + max(0.0, gone) * self.speed)

    def counter(self, now_s: float) -> tuple[float, float]:
        """The meter's counter: Wh, and the hours they were counted in.

        Until a reset it includes the previous user's count.
        """
        left_wh, left_h = (0.0, 0.0) if self.reset_s is not None else self._left_on_it()
        since = self.reset_s or 0.0
        wh = self.core_meter().counter_wh(self.line(), since, now_s) if now_s > since else 0.0
        return left_wh + wh, left_h + (now_s - since) / 3600

    def _left_on_it(self) -> tuple[float, float]:
        """Wh and hours of the previous user of the meter."""
        return 370.0 + 10.0 * (self.seed % 40), 11.2 + self.seed % 7

    def line(self) -> Timeline:
        return timeline(self.standin, self.seed, mains_v=self.load.job.mains_v)

    def core_meter(self) -> Meter:
        interval = 1.0 if self.meter == "plug" else 10.0
        return Meter(INSTRUMENTS[self.meter], self.seed, interval)

    def conditions(self) -> dict[str, Any]:
        """Conditions of its readings."""
        conditions = {"setting": self.setting, "room_c": self.room_c, "instrument": self.meter}
        return {key: value for key, value in conditions.items() if value not in (None, "")}


def one_topic(topic: str) -> None:
    """Refuse wildcards and reserved topics of a broker."""
    if any(sign in topic for sign in "#+\0") or topic.startswith("$"):
        raise ValidationError("One topic, without # or +.")


class Logger(Record):
    """A logger or script that sends samples of a load, identified by token (HTTP) or topic (MQTT).

    Only the token's digest is stored; the token is shown once.
    """

    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="loggers")
    name = models.CharField(max_length=80, default="logger")
    digest = models.CharField(max_length=64, unique=True, editable=False)
    instrument = ChoiceField(
        max_length=12,
        default="plug",
        choices=INSTRUMENT_NAMES,
    )
    topic = models.CharField(
        "MQTT topic",
        max_length=200,
        blank=True,
        validators=[one_topic],
        help_text="Where it publishes, such as home/freezer/power; empty where it posts.",
    )
    json_key = models.CharField(
        "key of the watts",
        max_length=120,
        blank=True,
        help_text="In its JSON, such as ENERGY.Power; empty where it sends a number alone.",
    )
    time_key = models.CharField(
        "key of the time",
        max_length=120,
        blank=True,
        help_text="ISO 8601 with a zone, or seconds since 1970. Without it the time it came in.",
    )
    revoked_at = models.DateTimeField(null=True, editable=False)
    heard_at = models.DateTimeField(null=True, editable=False)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.name


class Chunk(models.Model):
    """Samples of one post, packed; the same post again is the same chunk.

    Its ``time_s`` is since 1970.
    """

    logger = models.ForeignKey(Logger, on_delete=models.CASCADE, related_name="chunks")
    digest = models.CharField(max_length=64)
    packed = BytesField()
    last_s = models.FloatField()
    rows = models.PositiveIntegerField()

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.UniqueConstraint(fields=["logger", "digest"], name="one_chunk_a_post")
        ]

    def __str__(self) -> str:
        return f"{self.rows} rows"

    @classmethod
    def quota_of(cls, person: Any) -> Quota:
        theirs = cls.objects.filter(logger__load__job__owner=person)
        rows = theirs.aggregate(total=Coalesce(models.Sum("rows"), 0))["total"]
        return Quota("samples that wait", rows, settings.MOST_SAMPLES)
