"""Loads and their readings."""

from __future__ import annotations

from functools import cached_property, lru_cache
from typing import Any, ClassVar

from django.conf import settings
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.db.models import Prefetch

from needle.decide.cord import MATERIALS, CordCheck, check_cord, conductor_mm2
from needle.estimate import Estimate
from needle.measure.meters import resolved
from needle.measure.readings import TYPES as READING_TYPES
from needle.measure.readings import Reading as CoreReading
from needle.measure.readings import parse
from needle.profile.kinds import KINDS, RUNS_BY, Kind
from needle.profile.profile import Profile, derive
from needle.profile.record import LoadRecord, NoEvidence
from needle.profile.use_process import STATED_TIMES_SPREAD
from needle.quantity import MOST_DC_V
from needle.usage.usual_use import hours_per_day_of, parse_usual_use, uses_per_day_of
from web.common.models import ChoiceField, Record, RecordQuerySet
from web.common.quotas import Quota, bytes_of
from web.common.stored_bytes import BytesField
from web.common.validation import CONTENTS_C, in_our_time, refused_by_core
from web.jobs.models import Job

#: Kinds of reading; all but a capture can be typed in.
TYPES = {key: kind.title for key, kind in READING_TYPES.items()}
PRIORITIES = {"must": "must run", "should": "should run", "nice": "nice to have"}
CARES = {
    "": "as usual for its kind: refrigeration keeps its contents",
    "none": "none of these",
    "life": "keeps a person or an animal alive",
    "cold": "keeps medicine, vaccine or food in its range",
}
#: Stored as what depends on a load before being hard-wired was a field of its own.
_ONCE_WIRED = "wired"
#: What the core calls each.
SAFETY_CLASSES = {"none": "", "life": "life", "cold": "store"}
#: Least Wh of a combined reading: below it a counter's last digit decides.
LEAST_COMBINED_WH = 100.0
#: How a load is fed on split-phase mains.
LEGS = {"one": "one leg, 120 V", "both": "both legs, 240 V"}
CAUTIONS = {
    "life": "This equipment supports life. Ask its maker and the clinician before you rely on any "
    "supply, keep a second means at hand, and never rely on an estimate alone.",
    "cold": "Keep the range that the maker or authority states for the contents. This tool gives "
    "electrical estimates only.",
}
_WIRED_CAUTION = (
    "Live panels and hard-wired loads are for licensed electricians under local code. "
    "Never feed a building through an outlet."
)


class LoadQuerySet(RecordQuerySet):
    def with_readings(self) -> LoadQuerySet:
        """Loads with their live readings, in two queries."""
        return self.prefetch_related(
            Prefetch("readings", Reading.objects.live(), to_attr="live_readings")
        )


class Load(Record):
    """An appliance, as it is used in this job."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="loads")
    name = models.CharField(max_length=80)
    kind = ChoiceField(max_length=24, choices=[(kind.key, kind.name) for kind in KINDS.values()])
    priority = ChoiceField(max_length=8, default="should", choices=list(PRIORITIES.items()))
    cares = ChoiceField(
        "safety",
        max_length=8,
        blank=True,
        default="",
        choices=[*CARES.items(), (_ONCE_WIRED, "is hard-wired")],
    )
    wired = models.BooleanField(
        "hard-wired",
        default=False,
        help_text="No plug: a licensed electrician measures it, and nobody is told to unplug it.",
    )
    setting = models.CharField(
        max_length=60, blank=True, help_text="Which setting the plan counts with, such as “mid”."
    )
    hours_per_day = models.FloatField(
        null=True, blank=True, validators=[MinValueValidator(0), MaxValueValidator(24)]
    )
    usual_use = models.JSONField(
        default=dict,
        blank=True,
        help_text="How often and how long, as :mod:`needle.usage.usual_use` has it.",
    )
    runs_by = ChoiceField(
        "what makes it run",
        max_length=8,
        blank=True,
        default="",
        choices=[("", "as usual for its kind"), *RUNS_BY.items()],
    )
    set_c = models.FloatField("set point", null=True, blank=True, validators=CONTENTS_C)
    can_dc = models.BooleanField(
        "can go DC", default=False, help_text="A DC or USB output can feed it."
    )
    dc = models.BooleanField(
        "runs on DC",
        default=False,
        help_text="Straight from a DC or USB output: volts times amps are its watts.",
    )
    legs = ChoiceField(
        "fed by",
        max_length=4,
        blank=True,
        choices=list(LEGS.items()),
        help_text="On 120/240 V mains: its volts where a reading has none.",
    )
    never_rarer = models.BooleanField(
        "it never defrosts",
        default=False,
        help_text="Six hours of measuring are then enough; for refrigeration only.",
    )
    litres = models.FloatField(
        null=True,
        blank=True,
        help_text="Of a box: compared per litre.",
        validators=[MinValueValidator(0.01)],
    )
    cord_m = models.FloatField(
        "cord length",
        null=True,
        blank=True,
        validators=[MinValueValidator(0.01), MaxValueValidator(10_000)],
    )
    cord_size = models.CharField("conductor", max_length=30, blank=True)
    cord_material = ChoiceField(
        "material",
        max_length=12,
        default="copper",
        choices=[(material, material) for material in MATERIALS],
    )
    note = models.CharField(max_length=400, blank=True)
    put_off = models.CharField(
        "its measurement is put off because",
        max_length=120,
        blank=True,
    )

    objects = LoadQuerySet.as_manager()  # type: ignore[misc]

    class Meta:
        ordering = ["name", "pk"]
        constraints = [
            models.UniqueConstraint(
                fields=["job", "name"],
                condition=models.Q(removed_at=None),
                name="one_load_a_name",
                violation_error_message="There is a load of this name already.",
            )
        ]

    def __str__(self) -> str:
        return self.name

    def clean(self) -> None:
        with refused_by_core():
            self.usual_use = parse_usual_use(self.usual_use)
        if self.cord_size:
            with refused_by_core():
                conductor_mm2(self.cord_size)

    @property
    def core_kind(self) -> Kind:
        return KINDS[self.kind]

    @property
    def hours_in_use(self) -> float | None:
        """Hours of use per day: as stated, else from its usual use; None if unknown."""
        if self.hours_per_day is not None:
            return self.hours_per_day
        return hours_per_day_of(self.usual_use)

    @property
    def safety(self) -> str:
        """Safety class, a key of :data:`CARES`: as stated, else as usual for its kind."""
        if self.cares in CAUTIONS or self.cares == "none":
            return self.cares
        return "cold" if self.core_kind.keeps_contents else "none"

    @property
    def is_wired(self) -> bool:
        return self.wired or self.cares == _ONCE_WIRED

    @property
    def on_both_legs(self) -> bool:
        return self.job.split and self.legs == "both"

    @property
    def caution(self) -> str:
        """What depends on it and how it is wired, in the usual words; empty for neither."""
        wired = _WIRED_CAUTION if self.is_wired else ""
        return " ".join(filter(None, (CAUTIONS.get(self.safety), wired)))

    @property
    def safety_class(self) -> str:
        """Safety class, a key of :data:`needle.profile.kinds.SAFETY_CLASSES`."""
        return SAFETY_CLASSES[self.safety]

    @property
    def mains_v(self) -> float:
        """Mains voltage of one leg, or of both."""
        return self.job.mains_v * (2 if self.on_both_legs else 1)

    def volts(self) -> float | None:
        """Volts that it is fed with: as read last, else of the mains; None for DC that nobody read.

        Low volts of a load on AC are those behind its adapter, and say nothing here.
        """
        read = (reading.data.get("volts") for reading in reversed(self.known_readings()))
        mine = (float(volts) for volts in read if volts and (volts <= MOST_DC_V) == self.dc)
        return next(mine, None if self.dc else self.mains_v)

    def cord(self, running_va: float, start_va: float) -> CordCheck | None:
        """Its cord's voltage drop at these VA; None without a cord, or where no volts are known."""
        volts = self.volts()
        if not self.cord_m or not self.cord_size or volts is None:
            return None
        area = conductor_mm2(self.cord_size)
        material = self.cord_material
        return check_cord(self.cord_m, area, running_va / volts, volts, start_va / volts, material)

    @cached_property
    def _core_readings(self) -> list[tuple[int, CoreReading]]:
        """Live readings as the core knows them, each with its primary key."""
        meters = self.job.meters()
        return [
            (reading.pk, resolved(reading.to_core(), meters)) for reading in self.known_readings()
        ]

    @cached_property
    def _records(self) -> dict[tuple[str, bool, frozenset[int]], LoadRecord]:
        """Records that this request has asked for."""
        return {}

    @cached_property
    def _profiles(self) -> dict[tuple[str, bool, frozenset[int]], Profile | None]:
        """Profiles that this request has asked for."""
        return {}

    def known_readings(self) -> list[Reading]:
        """Live readings, prefetched if possible."""
        if not hasattr(self, "live_readings"):
            self.live_readings = list(self.readings.live())
        return list(self.live_readings)

    def to_core(
        self, setting: str = "", in_hours: bool = False, without: frozenset[int] = frozenset()
    ) -> LoadRecord:
        """Its record for the core, in another setting if one is named.

        ``in_hours`` is whether a plan uses it for set hours of the day; ``without`` are primary
        keys of readings that are left out.
        """
        asked = setting, in_hours, without
        if asked not in self._records:
            self._records[asked] = self._record(*asked)
        return self._records[asked]

    def _record(self, setting: str, in_hours: bool, without: frozenset[int]) -> LoadRecord:
        return LoadRecord(
            name=self.name,
            kind=self.kind,
            readings=tuple(reading for key, reading in self._core_readings if key not in without),
            mains_v=self.mains_v,
            in_panel=self.is_wired or self.on_both_legs,
            legs_open=self.job.split and not self.legs and not self.dc,
            setting=setting or self.setting,
            hours_per_day=self.hours_in_use,
            never_rarer=self.never_rarer,
            set_c=self.set_c,
            dc=self.dc,
            runs_by=self.runs_by,
            uses_per_day=self._uses_per_day(),
            use_min=self.usual_use.get("minutes"),
            in_hours=in_hours,
        )

    def _uses_per_day(self) -> Estimate | None:
        """How often a day it is used, as its usual use says; None if that has no single uses."""
        uses = uses_per_day_of(self.usual_use)
        return None if uses is None else Estimate(uses, STATED_TIMES_SPREAD, "C")

    def profile(
        self, setting: str = "", in_hours: bool = False, without: frozenset[int] = frozenset()
    ) -> Profile | None:
        """Its profile; None without evidence of watts or energy. Parameters as of `to_core`."""
        asked = setting, in_hours, without
        if asked not in self._profiles:
            self._profiles[asked] = _profile(self.to_core(*asked))
        return self._profiles[asked]

    def why_unknown(self) -> str:
        """Why its readings give no profile, as a sentence; empty if they do, or without any."""
        if self.profile() is not None or not self.known_readings():
            return ""
        try:
            derive(self.to_core())
        except NoEvidence as reason:
            return f"{reason.message[:1].upper()}{reason.message[1:]}."
        return ""


def loads_of(job: Job) -> list[Load]:
    """The job's live loads with their readings, fetched once per request."""
    if job.cache.loads is None:
        job.cache.loads = list(job.loads.live().with_readings())
    return list(job.cache.loads)


def numbers_of(job: Job) -> dict[int, int]:
    """Each load's number in order of creation, including removed loads.

    It seeds a load's random streams in plans, so that renaming changes no draw.
    """
    if job.cache.numbers is None:
        keys = job.loads.order_by("pk").values_list("pk", flat=True)
        job.cache.numbers = {pk: number for number, pk in enumerate(keys, 1)}
    return dict(job.cache.numbers)


@lru_cache(maxsize=4096)
def _profile(record: LoadRecord) -> Profile | None:
    try:
        return derive(record)
    except NoEvidence:
        return None


#: Characters of a reading's note.
MOST_NOTE = 400


class Reading(Record):
    """A reading of a load; ``data`` has the open document's keys."""

    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="readings")
    type = ChoiceField(max_length=12, choices=list(TYPES.items()))
    data = models.JSONField(default=dict)
    read_at = models.DateTimeField("read at", null=True, blank=True, validators=[in_our_time])
    note = models.CharField(max_length=MOST_NOTE, blank=True)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return f"{self.get_type_display()} of {self.load}"

    def clean(self) -> None:
        with refused_by_core():
            self.to_core()

    def to_document(self) -> dict[str, Any]:
        """The reading as in the open document, with its date and its note."""
        made = {"at": self.read_at.isoformat()} if self.read_at else {}
        noted = {"note": self.note} if self.note else {}
        return {"type": self.type, **self.data, **made, **noted}

    def to_core(self) -> CoreReading:
        return parse(self.to_document())


class Photo(Record):
    """A photo of a reading: the display, the label or the place."""

    HISTORY_SKIPS: ClassVar = ("large", "small")

    reading = models.ForeignKey(Reading, on_delete=models.CASCADE, related_name="photos")
    large = BytesField(editable=False)
    small = BytesField(editable=False)
    width = models.PositiveIntegerField(default=0)
    height = models.PositiveIntegerField(default=0)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return f"photo of {self.reading}"

    @classmethod
    def quota_of(cls, person: Any) -> Quota:
        """Removed ones count until ``manage.py tidy`` deletes them."""
        theirs = cls.objects.filter(reading__load__job__owner=person)
        most = settings.MOST_PHOTO_MB * 1_000_000
        return Quota("photos", bytes_of(theirs, "large", "small"), most, bytes=True)


class CombinedReading(Record):
    """Energy that one meter counted for several loads at once.

    Each load is known by its key (:class:`CombinedLoad`). A plan in which all of them run on AC is
    conditioned on it.
    """

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="combined_readings")
    wh = models.FloatField("Wh counted", validators=[MinValueValidator(LEAST_COMBINED_WH)])
    hours = models.FloatField(validators=[MinValueValidator(0.1)])
    always_on = models.BooleanField(
        "all of them were on all the time",
        default=False,
        help_text="Else they were used as they are in the plan.",
    )
    meter = models.CharField(max_length=60, blank=True)
    read_at = models.DateTimeField("read at", null=True, blank=True, validators=[in_our_time])
    note = models.CharField(max_length=400, blank=True)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return f"Counted together: {', '.join(load.name for load in self.known_loads())}"

    def known_loads(self) -> list[Load]:
        """Its loads by name, prefetched if possible."""
        parts = self.parts.filter(removed_at=None).select_related("load")
        return sorted((part.load for part in parts), key=lambda load: load.name)


class CombinedLoad(Record):
    """A load of a combined reading."""

    combined = models.ForeignKey(CombinedReading, on_delete=models.CASCADE, related_name="parts")
    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="combined_parts")

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return f"{self.load} in {self.combined}"
