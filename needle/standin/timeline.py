"""Power profile of an appliance over time: segments with ramps, decays and starts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

HERTZ = {230.0: 50.0, 240.0: 50.0, 120.0: 60.0, 100.0: 50.0}
#: Of the wiring between meter and source, ohm: what lets the voltage dip at a start.
SOURCE_OHM = 0.35


@dataclass(frozen=True)
class Segment:
    """One segment of a power profile.

    Attributes
    ----------
    start_s : float
        Its beginning, s; it lasts until the next segment.
    watts, end_watts : float
        True power at its beginning and, after a linear ramp, at its end, W.
    pf : float
        Power factor.
    tail_w, tau_s : float
        Additional power that decays exponentially, W and s (a compressor's first minutes).
    inrush_va, inrush_s : float
        Start-up VA and their duration, s; 0 for no start.
    state : str
        resting, running, defrost…
    """

    start_s: float
    watts: float
    end_watts: float
    pf: float = 1.0
    tail_w: float = 0.0
    tau_s: float = 60.0
    inrush_va: float = 0.0
    inrush_s: float = 0.0
    state: str = "running"


@dataclass(frozen=True)
class Sample:
    """Values at some times, arrays of one shape: V, A, W, VA, share, Hz."""

    volts: np.ndarray
    amps: np.ndarray
    watts: np.ndarray
    va: np.ndarray
    pf: np.ndarray
    hz: np.ndarray


@dataclass(frozen=True)
class Timeline:
    """The power profile of an appliance over ``horizon_s``.

    Attributes
    ----------
    segments : tuple of Segment
        From 0 s on, in order.
    horizon_s : float
        Its length, s; later times repeat it.
    seed : int
        Seed of the noise.
    noise : float
        Relative standard deviation of the power's noise.
    mains_v : float
        Mains voltage, V.
    """

    segments: tuple[Segment, ...]
    horizon_s: float
    seed: int
    noise: float = 0.004
    mains_v: float = 230.0

    def columns(self) -> dict[str, np.ndarray]:
        """The segments' fields as arrays, and ``length_s``."""
        names = ("start_s", "watts", "end_watts", "pf", "tail_w", "tau_s", "inrush_va", "inrush_s")
        columns = {n: np.array([getattr(segment, n) for segment in self.segments]) for n in names}
        columns["length_s"] = np.diff(np.append(columns["start_s"], self.horizon_s))
        return columns

    def sample(self, time_s: np.ndarray) -> Sample:
        """All values at the given times, s, including starts to within 10 ms."""
        time = np.asarray(time_s, dtype=float) % self.horizon_s
        columns = self.columns()
        index = np.clip(
            np.searchsorted(columns["start_s"], time, side="right") - 1, 0, len(self.segments) - 1
        )
        at = {name: column[index] for name, column in columns.items()}
        since = time - at["start_s"]
        ramp = np.clip(since / np.maximum(at["length_s"], 1e-9), 0, 1)
        watts = at["watts"] + (at["end_watts"] - at["watts"]) * ramp
        watts = watts + at["tail_w"] * np.exp(-since / np.maximum(at["tau_s"], 1e-9))
        watts = watts * (1 + self.noise * _noise(time, self.seed))
        va = watts / np.maximum(at["pf"], 0.05)
        starting = (since < at["inrush_s"]) & (at["inrush_va"] > va)
        # An inrush falls from its peak to the running VA over its length; half of it is true power.
        fall = 1 - np.clip(since / np.maximum(at["inrush_s"], 1e-9), 0, 1) ** 2
        surge = va + (at["inrush_va"] - va) * fall
        va = np.where(starting, surge, va)
        watts = np.where(starting, np.maximum(watts, 0.5 * surge), watts)
        nominal = self.mains_v * (
            1 + 0.006 * np.sin(time / 1370 + self.seed) + 0.001 * _noise(time, self.seed + 7)
        )
        amps = va / nominal
        volts = nominal - SOURCE_OHM * amps
        hertz = HERTZ.get(self.mains_v, 50.0) + 0.02 * np.sin(time / 97 + self.seed)
        with np.errstate(divide="ignore", invalid="ignore"):
            pf = np.where(va > 0, watts / va, 1.0)
        return Sample(volts, va / volts, watts, va, np.clip(pf, 0, 1), hertz)

    def mean_w(self, start_s: float = 0.0, end_s: float | None = None) -> float:
        """True mean W between two times, from the segments' own integrals (without inrush)."""
        end_s = self.horizon_s if end_s is None else end_s
        columns = self.columns()
        begin = np.maximum(columns["start_s"], start_s)
        end = np.minimum(columns["start_s"] + columns["length_s"], end_s)
        span = np.maximum(0.0, end - begin)
        first, last = begin - columns["start_s"], np.maximum(begin, end) - columns["start_s"]
        slope = (columns["end_watts"] - columns["watts"]) / np.maximum(columns["length_s"], 1e-9)
        joules = (columns["watts"] + slope * (first + last) / 2) * span
        tau = np.maximum(columns["tau_s"], 1e-9)
        joules += (
            columns["tail_w"] * tau * (np.exp(-first / tau) - np.exp(-last / tau)) * (span > 0)
        )
        return float(joules.sum() / (end_s - start_s))

    def runs_s(self) -> list[tuple[float, float]]:
        """First and last time of each segment that is not at rest, s."""
        columns = self.columns()
        ends = columns["start_s"] + columns["length_s"]
        return [
            (segment.start_s, float(end))
            for segment, end in zip(self.segments, ends, strict=True)
            if segment.state != "resting"
        ]

    def starts_s(self) -> list[float]:
        """Times at which something with an inrush switches on, s."""
        return [segment.start_s for segment in self.segments if segment.inrush_va > 0]


def _noise(time_s: np.ndarray, seed: int) -> np.ndarray:
    """Repeatable noise of unit variance at any moment, one value every 10 ms."""
    tick = np.floor(time_s * 100) + seed * 7919.0
    first = np.sin(tick * 12.9898) * 43758.5453
    second = np.sin(tick * 78.233) * 24634.6345
    return np.asarray(
        ((first - np.floor(first)) + (second - np.floor(second)) - 1.0) * np.sqrt(6.0)
    )
