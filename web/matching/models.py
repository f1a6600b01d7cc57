"""Power-factor corrections that were tried on a load."""

from __future__ import annotations

from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.utils import timezone

from needle.measure.readings import MOST_W
from web.common.models import Record
from web.common.validation import in_our_time
from web.loads.models import Load

_READ = [MinValueValidator(1e-3), MaxValueValidator(MOST_W)]


class Correction(Record):
    """Readings of a motor without and with a capacitor fitted: µF, W, VA; battery W if read."""

    load = models.ForeignKey(Load, on_delete=models.CASCADE, related_name="corrections")
    fitted_uf = models.FloatField(validators=_READ)
    watts_without = models.FloatField(validators=_READ)
    va_without = models.FloatField(validators=_READ)
    battery_w_without = models.FloatField(null=True, blank=True, validators=_READ)
    watts_with = models.FloatField(validators=_READ)
    va_with = models.FloatField(validators=_READ)
    battery_w_with = models.FloatField(null=True, blank=True, validators=_READ)
    tested_at = models.DateTimeField("tested at", default=timezone.now, validators=[in_our_time])
    note = models.CharField(max_length=400, blank=True)

    class Meta:
        ordering = ["tested_at", "pk"]

    def __str__(self) -> str:
        return f"{self.fitted_uf:g} µF on {self.load}"
