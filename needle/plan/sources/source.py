"""The interface of every kind of charging source."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from dataclasses import dataclass
from datetime import datetime, tzinfo
from typing import ClassVar

import numpy as np

from needle.document import Reader
from needle.fields import Fields
from needle.message import Message
from needle.moments import Window

_NO_WINDOWS: tuple[Window, ...] = ()


@dataclass(frozen=True)
class Source(ABC):
    """A charging source; each kind is a subclass.

    Attributes
    ----------
    name : str
    limit_w : float
        Power limit of its input, W.
    id : str
        Seed of its random streams, so that renaming a source changes no draw; empty: its name.
    """

    #: What the kind is called where one is chosen.
    TITLE: ClassVar[str]
    #: How it is counted, for the page where it is described: a heading and paragraphs.
    ABOUT: ClassVar[tuple[str, ...]]
    #: How what it gives is measured, and how long that takes.
    TO_MEASURE: ClassVar = ("log what {name} gives over three days", "three days")
    #: Its fields in the document, beside the common ones; those with a label make up its form.
    FIELDS: ClassVar[Fields]
    #: Between which it gives; empty where its hours are not set.
    windows = _NO_WINDOWS
    #: Relative spread of what it gives.
    spread = 0.0
    #: Fuel for each kWh, l.
    litres_per_kwh = 0.0
    #: Wh that it holds; infinite where it does not run down.
    store_wh = math.inf
    id = ""

    name: str
    limit_w: float

    @classmethod
    @abstractmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> Source:
        """Return a source from its document."""

    @abstractmethod
    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        """Power that it offers before its input's limit, W, shape (minutes,)."""

    def factors(
        self, days: int, normals: np.ndarray | None, rng: np.random.Generator
    ) -> np.ndarray:
        """Daily factors on its power, (draws, days) or (1, days).

        Parameters
        ----------
        days : int
        normals : ndarray, (draws,), or None
            Standard normal draws of what all days share; None for the likely value.
        rng : numpy.random.Generator
            For the independent part of each day.
        """
        return np.ones((1, days))

    def carried(self, start: datetime, minutes: int) -> np.ndarray | None:
        """Minutes in which it runs the loads on AC itself, boolean, (minutes,); None if never."""
        return None

    @property
    @abstractmethod
    def rated_most_w(self) -> float:
        """Highest power that it can give, W."""

    @property
    def most_w(self) -> float:
        """Highest power that its input accepts from it, W."""
        return min(self.rated_most_w, self.limit_w)

    @property
    def basis(self) -> Message | None:
        """What its energy is worked out from; None where its watts say all."""
        return None

    @property
    def runs_down(self) -> bool:
        """Whether it holds a limited amount of energy."""
        return math.isfinite(self.store_wh)

    @property
    def drawn(self) -> bool:
        """Whether its power is uncertain."""
        return self.spread > 0


def same_each_day(spread: float, days: int, normals: np.ndarray | None) -> np.ndarray:
    """Log-normal factors that all days share, (draws, days); ones, (1, days), without a spread."""
    if normals is None or spread <= 0:
        return np.ones((1, days))
    factor = np.exp(normals * math.sqrt(math.log1p(spread**2)))
    return np.repeat(factor[:, None], days, axis=1)
