"""Supplies: battery, inverter, outputs, inputs, and tests."""

from __future__ import annotations

from collections.abc import Container
from typing import Any, Self

from django.core.exceptions import ValidationError
from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.utils import timezone

from needle.decide.starting import StartTried
from needle.measure.readings import MOST_W
from needle.supply.charging import parse_inputs
from needle.supply.chemistry import CHEMISTRIES
from needle.supply.outputs import OUTPUT_KINDS, parse_outputs
from needle.supply.supply import Supply as CoreSupply
from needle.supply.supply import parse_supply
from needle.supply.supply_tests import TYPES as TEST_TYPES
from needle.supply.supply_tests import parse_test
from web.common.models import ChoiceField, Record, RecordQuerySet
from web.common.validation import in_our_time, refused_by_core
from web.jobs.models import Job
from web.jobs.renaming import in_list, in_values
from web.loads.models import Load

WAVEFORMS = {"sine": "sine", "stepped": "modified sine"}
BUILDS = {
    "whole": "all in one case",
    "bank": "battery bank with an inverter of its own",
    "usb": "USB bank",
}
TESTS = {key: kind.title for key, kind in TEST_TYPES.items()}
RESULTS = {
    "held": "held",
    "complained": "complained, then ran",
    "tripped": "the inverter tripped",
    "refused": "the load refused to start",
}


class SupplyQuerySet(RecordQuerySet):
    """Supplies of a job."""

    def with_parts(self) -> Self:
        """With their live outputs, inputs and tests, in three more queries."""
        return self.prefetch_related(
            *(
                models.Prefetch(name, kind.objects.live(), to_attr=f"live_{name}")
                for name, kind in (("outputs", Output), ("inputs", Input), ("tests", SupplyTest))
            )
        )


class Supply(Record):
    """A battery with its inverter. Shares are 0…1, powers in W and VA, energies in Wh.

    ``nominal_wh`` and ``volts`` are those of one battery; ``series`` and ``parallel`` are the
    numbers of them in the bank.
    """

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="supplies")
    name = models.CharField(max_length=80)
    build = ChoiceField(max_length=8, default="whole", choices=list(BUILDS.items()))
    chemistry = ChoiceField(
        max_length=8,
        choices=[(chemistry.key, chemistry.name) for chemistry in CHEMISTRIES.values()],
    )
    nominal_wh = models.FloatField(validators=[MinValueValidator(0.1)])
    volts = models.FloatField(null=True, blank=True)
    series = models.PositiveSmallIntegerField(
        "in series", default=1, validators=[MinValueValidator(1), MaxValueValidator(64)]
    )
    parallel = models.PositiveSmallIntegerField(
        "in parallel", default=1, validators=[MinValueValidator(1), MaxValueValidator(64)]
    )
    floor = models.FloatField(null=True, blank=True)
    capacity_factor = models.FloatField(null=True, blank=True)
    capacity_spread = models.FloatField(null=True, blank=True)
    peukert_n = models.FloatField(null=True, blank=True)
    internal_ohm = models.FloatField(null=True, blank=True)
    cutoff_v = models.FloatField(null=True, blank=True)
    continuous_w = models.FloatField(null=True, blank=True)
    continuous_va = models.FloatField(null=True, blank=True)
    ac_volts = models.FloatField(null=True, blank=True)
    surge_va = models.FloatField(null=True, blank=True)
    surge_s = models.FloatField(null=True, blank=True)
    idle_w = models.FloatField(null=True, blank=True)
    efficiency = models.FloatField(null=True, blank=True)
    overload_ratio = models.FloatField(null=True, blank=True)
    overload_s = models.FloatField(null=True, blank=True)
    waveform = ChoiceField(max_length=8, default="sine", choices=list(WAVEFORMS.items()))
    total_max_w = models.FloatField(null=True, blank=True)
    note = models.CharField(max_length=400, blank=True)

    objects = SupplyQuerySet.as_manager()  # type: ignore[misc]

    class Meta:
        ordering = ["pk"]
        verbose_name_plural = "supplies"

    def __str__(self) -> str:
        return self.name

    def clean(self) -> None:
        if None in (self.nominal_wh, self.series, self.parallel):
            return  # Refused field by field.
        with refused_by_core():
            self.to_core()

    def _live(self, name: str) -> list[Any]:
        """Live parts, prefetched if possible."""
        kept = f"live_{name}"
        if not hasattr(self, kept):
            setattr(self, kept, list(getattr(self, name).live()) if self.pk else [])
        return list(getattr(self, kept))

    def take_parts_of(self, other: Supply) -> None:
        """Use the outputs, inputs and tests of another supply."""
        for name in ("outputs", "inputs", "tests"):
            setattr(self, f"live_{name}", other._live(name))

    @property
    def bank_v(self) -> float | None:
        """Volts of all its batteries together."""
        return self.volts * self.series if self.volts else None

    def known_outputs(self) -> list[Output]:
        return self._live("outputs")

    def known_inputs(self) -> list[Input]:
        return self._live("inputs")

    def trials_to_carry(self) -> models.QuerySet[Any]:
        """Finished trials on it whose result has not been stored as a test yet."""
        trials: models.QuerySet[Any] = self.trials.live()
        real = trials.exclude(ended_at=None).filter(simulated_seed=None)
        return real.filter(carried_test=None)

    def known_tests(self) -> list[SupplyTest]:
        """Tests of parts which it still has, oldest first."""
        names = {output.name for output in self.known_outputs()} | (
            {"ac"} if self.continuous_w else set()
        )
        tests = [test for test in self._live("tests") if test.speaks_of(names)]
        return sorted(tests, key=lambda test: (test.tested_at, test.pk or 0))

    def to_document(
        self,
        outputs: Container[str] | None = None,
        without: Container[int | None] = (),
        **battery: Any,
    ) -> dict[str, Any]:
        """The supply as the open document.

        Parameters
        ----------
        outputs : container of str or None
            Names of the DC and USB outputs that are on; None for all.
        without : container of int
            Primary keys of tests to leave out.
        **battery
            Keys of the battery document to add or replace.
        """
        document: dict[str, Any] = {
            "name": self.name,
            "battery": _given({**self._battery(), **battery}),
            "total_max_w": self.total_max_w,
        }
        if self.continuous_w:
            document["inverter"] = self._inverter()
        # Numbered among all, so that switching one off renames no other.
        on = [
            {**output.to_document(), "id": f"output {number}"}
            for number, output in enumerate(self.known_outputs(), 1)
            if outputs is None or output.name in outputs
        ]
        document["outputs"] = on
        document["inputs"] = [charge_input.to_document() for charge_input in self.known_inputs()]
        names = {"ac", *(output["name"] for output in on)}
        tests = [test for test in self.known_tests() if test.pk is None or test.pk not in without]
        document["tests"] = [test.to_document() for test in tests if test.speaks_of(names)]
        return {key: value for key, value in document.items() if value not in (None, [])}

    def _battery(self) -> dict[str, Any]:
        return {
            "chemistry": self.chemistry,
            "nominal_wh": self.nominal_wh * self.series * self.parallel,
            "volts": self.bank_v,
            "floor": self.floor,
            "capacity_factor": self.capacity_factor,
            "capacity_spread": self.capacity_spread,
            "peukert_n": self.peukert_n,
            "internal_ohm": self.internal_ohm,
            "cutoff_v": self.cutoff_v,
        }

    def _inverter(self) -> dict[str, Any]:
        overload = None
        if self.overload_ratio and self.overload_s is not None:
            overload = [[self.overload_ratio, self.overload_s]]
        return _given(
            {
                "continuous_w": self.continuous_w,
                "surge_va": self.surge_va,
                "surge_s": self.surge_s,
                "idle_w": self.idle_w,
                "efficiency": self.efficiency,
                "overload": overload,
                "waveform": self.waveform,
                "volts": self.ac_volts,
                "continuous_va": self.continuous_va,
            }
        )

    def to_core(self, **battery: Any) -> CoreSupply:
        return parse_supply(self.to_document(**battery))


def supplies_of(job: Job) -> list[Supply]:
    """The job's live supplies with their parts, fetched once per request."""
    if job.cache.supplies is None:
        job.cache.supplies = list(job.supplies.live().with_parts())
    return list(job.cache.supplies)


def _given(values: dict[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in values.items() if value is not None}


def _one_name(name: str) -> models.UniqueConstraint:
    """Unique names among the live parts of a supply."""
    return models.UniqueConstraint(
        fields=["supply", "name"], condition=models.Q(removed_at=None), name=name
    )


class Output(Record):
    """A DC or USB output; loads refer to it as their route."""

    supply = models.ForeignKey(Supply, on_delete=models.CASCADE, related_name="outputs")
    name = models.CharField(max_length=40)
    volts = models.FloatField(null=True, blank=True)
    max_a = models.FloatField(null=True, blank=True)
    max_w = models.FloatField(null=True, blank=True)
    kind = ChoiceField(
        "what it is",
        max_length=10,
        default="dc",
        choices=[(kind.key, kind.name) for kind in OUTPUT_KINDS.values()],
    )
    off_when_idle = models.BooleanField(
        "off when idle",
        default=False,
        help_text="Switches itself off, and draws nothing, while nothing on it draws.",
    )
    idle_w = models.FloatField(null=True, blank=True)
    efficiency = models.FloatField(null=True, blank=True)

    class Meta:
        ordering = ["pk"]
        constraints = [_one_name("one_output_a_name")]

    def __str__(self) -> str:
        return f"{self.name} of {self.supply}"

    def clean(self) -> None:
        with refused_by_core():
            parse_outputs([self.to_document()], "outputs", self.supply.bank_v)

    def to_document(self) -> dict[str, Any]:
        keys = ("name", "volts", "max_a", "max_w", "idle_w", "efficiency")
        document = _given({key: getattr(self, key) for key in keys})
        if self.kind != "dc":
            document["kind"] = self.kind
        if self.off_when_idle:
            document["off_when_idle"] = True
        return document


class Input(Record):
    """A charge input."""

    supply = models.ForeignKey(Supply, on_delete=models.CASCADE, related_name="inputs")
    name = models.CharField(max_length=40)
    volts = models.FloatField(null=True, blank=True)
    max_a = models.FloatField(null=True, blank=True)
    max_w = models.FloatField(null=True, blank=True)
    controller_a = models.FloatField(null=True, blank=True)

    class Meta:
        ordering = ["pk"]
        constraints = [_one_name("one_input_a_name")]

    def __str__(self) -> str:
        return f"{self.name} of {self.supply}"

    def clean(self) -> None:
        with refused_by_core():
            parse_inputs([self.to_document()], "inputs")

    def to_document(self) -> dict[str, Any]:
        keys = ("name", "volts", "max_a", "max_w", "controller_a")
        return _given({key: getattr(self, key) for key in keys})


class SupplyTest(Record):
    """A test of a supply; ``data`` has the open document's keys.

    The newest of a kind is used; after its removal, the previous one.
    """

    supply = models.ForeignKey(Supply, on_delete=models.CASCADE, related_name="tests")
    type = ChoiceField(max_length=12, choices=list(TESTS.items()))
    data = models.JSONField(default=dict)
    tested_at = models.DateTimeField("tested at", default=timezone.now, validators=[in_our_time])
    note = models.CharField(max_length=400, blank=True)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return f"{self.get_type_display()} of {self.supply}"

    def clean(self) -> None:
        with refused_by_core():
            parse_test(self.to_document())

    @classmethod
    def naming(cls, record: Record) -> models.QuerySet[SupplyTest]:
        """Tests that may refer to a load or an output."""
        if isinstance(record, Load):
            return cls.objects.filter(supply__job=record.job, type__in=("route", "together"))
        if isinstance(record, Output):
            return cls.objects.filter(supply=record.supply)
        return cls.objects.none()

    def rename(self, record: Load | Output, before: str) -> bool:
        """Update a record's name; return whether it was referred to."""
        key = "load" if isinstance(record, Load) else "output"
        found = in_values(self.data, key, before, record.name)
        if isinstance(record, Output):
            return in_values(self.data, "counted", before, record.name) or found
        return in_list(self.data.get("loads", []), before, record.name) or found

    def speaks_of(self, names: Container[str]) -> bool:
        """Whether all outputs that it refers to are among these names."""
        if self.type == "efficiency" or self.data.get("counted") == "ac":
            return "ac" in names
        if self.type == "idle":
            return self.data.get("output", "ac") in names
        return self.type != "route" or ("ac" in names and self.data.get("output") in names)

    def to_document(self) -> dict[str, Any]:
        on = timezone.localtime(self.tested_at).date().isoformat()
        return {"type": self.type, **self.data, "on": on}


#: In which order a load was plugged in and switched on.
ORDERS = {"plug-first": "plugged in, then switched on", "on-first": "switched on, then plugged in"}


class StartTest(Record):
    """A start test: a load on this inverter, with other loads running.

    ``beside`` has the names of the other running loads, ``beside_w`` their total W.
    """

    supply = models.ForeignKey(Supply, on_delete=models.CASCADE, related_name="start_tests")
    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="start_tests")
    result = ChoiceField(max_length=12, choices=list(RESULTS.items()))
    times = models.PositiveSmallIntegerField(
        "tried", default=1, validators=[MinValueValidator(1), MaxValueValidator(100)]
    )
    setting = models.CharField(max_length=60, blank=True)
    beside = models.JSONField("what else ran", default=list, blank=True)
    beside_w = models.FloatField(
        default=0.0, validators=[MinValueValidator(0.0), MaxValueValidator(MOST_W)]
    )
    ran_s = models.FloatField(
        "ran on for",
        null=True,
        blank=True,
        validators=[MinValueValidator(1.0), MaxValueValidator(86_400.0)],
        help_text="With all that ran beside it, before it was switched off or tripped.",
    )
    order = ChoiceField(max_length=12, blank=True, choices=list(ORDERS.items()))
    tested_at = models.DateTimeField("tested at", default=timezone.now, validators=[in_our_time])
    note = models.CharField(max_length=400, blank=True)

    class Meta:
        ordering = ["tested_at", "pk"]

    def __str__(self) -> str:
        return f"{self.load} on {self.supply}"

    def clean(self) -> None:
        names = self.beside
        if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
            raise ValidationError({"beside": "Give the names of what else ran."})

    @classmethod
    def naming(cls, record: Record) -> models.QuerySet[StartTest]:
        """Tests that may refer to a load among the running ones."""
        if not isinstance(record, Load):
            return cls.objects.none()
        return cls.objects.filter(supply__job=record.job)

    def rename(self, record: Load, before: str) -> bool:
        """Update a load's name; return whether it was referred to."""
        return in_list(self.beside, before, record.name)

    def to_core(self) -> StartTried:
        return StartTried(self.result, self.beside_w, self.times, self.ran_s)
