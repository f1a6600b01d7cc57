"""Supplies: a battery, and an inverter where there is one."""

from __future__ import annotations

from typing import Any

from django.core.validators import MinValueValidator
from django.db import models

from needle.supply.battery import CHEMISTRIES
from needle.supply.supply import Supply as CoreSupply
from needle.supply.supply import parse_supply
from web.common.models import Record
from web.jobs.models import Job

WAVEFORMS = {"sine": "sine", "stepped": "stepped"}


class Supply(Record):
    """A battery with its inverter. Shares are 0…1, powers in W and VA, energies in Wh."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="supplies")
    name = models.CharField(max_length=80)
    chemistry = models.CharField(
        max_length=8, choices=[(one.key, one.name) for one in CHEMISTRIES.values()]
    )
    nominal_wh = models.FloatField(validators=[MinValueValidator(0.1)])
    volts = models.FloatField(null=True, blank=True)
    floor = models.FloatField(null=True, blank=True)
    capacity_factor = models.FloatField(null=True, blank=True)
    capacity_spread = models.FloatField(null=True, blank=True)
    peukert_n = models.FloatField(null=True, blank=True)
    continuous_w = models.FloatField(null=True, blank=True)
    surge_va = models.FloatField(null=True, blank=True)
    surge_s = models.FloatField(null=True, blank=True)
    idle_w = models.FloatField(null=True, blank=True)
    efficiency = models.FloatField(null=True, blank=True)
    overload_ratio = models.FloatField(null=True, blank=True)
    overload_s = models.FloatField(null=True, blank=True)
    waveform = models.CharField(max_length=8, default="sine", choices=list(WAVEFORMS.items()))
    note = models.CharField(max_length=400, blank=True)

    class Meta:
        ordering = ["pk"]
        verbose_name_plural = "supplies"

    def __str__(self) -> str:
        return self.name

    def to_document(self, **battery: Any) -> dict[str, Any]:
        """The supply as the open document; ``battery`` adds or replaces keys of the battery."""
        stored = {
            "chemistry": self.chemistry,
            "nominal_wh": self.nominal_wh,
            "volts": self.volts,
            "floor": self.floor,
            "capacity_factor": self.capacity_factor,
            "capacity_spread": self.capacity_spread,
            "peukert_n": self.peukert_n,
            **battery,
        }
        document: dict[str, Any] = {"name": self.name, "battery": _given(stored)}
        if self.continuous_w:
            overload = None
            if self.overload_ratio and self.overload_s is not None:
                overload = [[self.overload_ratio, self.overload_s]]
            document["inverter"] = _given(
                {
                    "continuous_w": self.continuous_w,
                    "surge_va": self.surge_va,
                    "surge_s": self.surge_s,
                    "idle_w": self.idle_w,
                    "efficiency": self.efficiency,
                    "overload": overload,
                    "waveform": self.waveform,
                }
            )
        return document

    def to_core(self, **battery: Any) -> CoreSupply:
        return parse_supply(self.to_document(**battery))


def _given(values: dict[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in values.items() if value is not None}
