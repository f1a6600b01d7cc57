"""Power-factor corrections that were tried on a load."""

from __future__ import annotations

from django.db import models
from django.utils import timezone

from web.common.models import Record
from web.loads.models import Load


class Correction(Record):
    """Readings of a motor without and with a capacitor fitted: µF, W, VA; battery W if read."""

    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="corrections")
    fitted_uf = models.FloatField()
    watts_without = models.FloatField()
    va_without = models.FloatField()
    battery_w_without = models.FloatField(null=True, blank=True)
    watts_with = models.FloatField()
    va_with = models.FloatField()
    battery_w_with = models.FloatField(null=True, blank=True)
    tested_at = models.DateTimeField("tested at", default=timezone.now)
    note = models.CharField(max_length=400, blank=True)

    class Meta:
        ordering = ["tested_at", "pk"]

    def __str__(self) -> str:
        return f"{self.fitted_uf:g} µF on {self.load}"
