"""A person's preferences."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models

from needle.words import Units


class Preferences(models.Model):
    """Display units, and capacitors in stock."""

    user = models.OneToOneField(
        settings.AUTH_USER_MODEL,
        on_delete=models.CASCADE,
        primary_key=True,
        related_name="preferences",
    )
    fahrenheit = models.BooleanField(
        "temperatures", default=False, choices=[(False, "°C"), (True, "°F")]
    )
    clock_12 = models.BooleanField(
        "times of day", default=False, choices=[(False, "18:30"), (True, "6:30 pm")]
    )

    stock_uf = models.JSONField(
        "capacitors in stock", default=list, blank=True, help_text="µF; empty for the usual ones."
    )

    def __str__(self) -> str:
        return f"preferences of {self.user}"

    def units(self) -> Units:
        return Units(self.fahrenheit, self.clock_12)


def stock_of(user: Any) -> tuple[float, ...]:
    """Capacitors that a person has in stock, µF; empty if none were listed."""
    preferences = Preferences.objects.filter(user=user).first()
    return tuple(preferences.stock_uf) if preferences else ()


def keep_stock(user: Any, stock_uf: list[float]) -> None:
    Preferences.objects.update_or_create(user=user, defaults={"stock_uf": stock_uf})


def units_of(user: Any) -> Units:
    """A person's units; the default ones if none were chosen."""
    preferences = Preferences.objects.filter(user=user).first()
    return preferences.units() if preferences else Units()
