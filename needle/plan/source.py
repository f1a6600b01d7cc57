"""What charges: what a plan asks of every kind of source."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from dataclasses import dataclass
from datetime import datetime, tzinfo
from typing import ClassVar

import numpy as np

from needle.document import Reader
from needle.moments import Window

_NO_WINDOWS: tuple[Window, ...] = ()


@dataclass(frozen=True)
class Source(ABC):
    """What charges: a class of its own for each kind, which brings all that a plan asks of it.

    Attributes
    ----------
    name : str
    limit_w : float
        What its input lets in, W.
    id : str
        What its random streams are made of, so that another name draws alike; empty: its name.
    """

    #: Its keys in the document, beside the common ones.
    KEYS: ClassVar[tuple[str, ...]]
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
        """Read one from its document."""

    @abstractmethod
    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        """W that it offers before its input's limit, shape (minutes,); of a store its most."""

    def factors(
        self, days: int, normals: np.ndarray | None, rng: np.random.Generator
    ) -> np.ndarray:
        """What each day makes of what it offers, (draws, days) or (1, days); ones unless drawn.

        Parameters
        ----------
        days : int
        normals : ndarray, (draws,), or None
            Standard normal draws of what all days share; None for the likely value.
        rng : numpy.random.Generator
            For what each day has of its own.
        """
        return np.ones((1, days))

    @property
    @abstractmethod
    def rated_most_w(self) -> float:
        """The most that it gives at all, W."""

    @property
    def most_w(self) -> float:
        """The most that its input takes from it, W."""
        return min(self.rated_most_w, self.limit_w)

    @property
    def runs_down(self) -> bool:
        """Whether what it has given is gone."""
        return math.isfinite(self.store_wh)

    @property
    def drawn(self) -> bool:
        """Whether what it gives is uncertain."""
        return self.spread > 0
