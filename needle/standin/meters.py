"""Simulated meters for simulated appliances, with the errors and limits of their class."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from needle.measure.capture import Capture
from needle.measure.instruments import INSTRUMENTS, Instrument
from needle.standin.timeline import Timeline

#: A plug meter is wrong below about this many watts.
_FLOOR_W = 2.0
#: What a clamp shows around a whole cable, where the currents cancel: A.
_CANCELLED_A = 0.02
#: Readings worked on at a time: each rests on ten moments.
_BLOCK = 20_000
#: Averaging time of a clamp's inrush mode (RMS), s.
INRUSH_S = 0.1


@dataclass(frozen=True)
class Meter:
    """A meter with a fixed error of its own.

    Attributes
    ----------
    instrument : Instrument
        Its class: accuracy and resolution.
    seed : int
        Determines its error within the accuracy limit.
    interval_s : float
        Time between readings, s; each reading is the mean over that time.
    """

    instrument: Instrument
    seed: int = 0
    interval_s: float = 1.0

    def _gain(self, quantity: str) -> float:
        """This meter's own error: fixed, inside ± its accuracy."""
        place = sorted(("volts", "amps", "watts", "va", "pf", "hz", "wh")).index(quantity)
        rng = np.random.default_rng([self.seed, place])
        return 1 + self.instrument.limit * 0.8 * float(rng.uniform(-1, 1))

    def _shown(self, quantity: str, true: np.ndarray) -> np.ndarray:
        step = self.instrument.steps.get(quantity)
        value = true * self._gain(quantity)
        return np.round(value / step) * step if step else value

    def read(self, line: Timeline, time_s: np.ndarray) -> dict[str, np.ndarray]:
        """What it shows at the given times: columns by name.

        Each reading is the mean over the preceding interval, from ten points; shorter start-up
        surges hardly show, as with a real meter.
        """
        points = time_s[:, None] - self.interval_s * (np.arange(10) + 0.5) / 10
        sample = line.sample(np.maximum(points, 0.0))
        watts = sample.watts.mean(axis=1)
        va = np.sqrt((sample.va**2).mean(axis=1))
        volts = sample.volts.mean(axis=1)
        va = np.maximum(va, watts)
        low = watts < _FLOOR_W
        if self.instrument.key == "plug":
            watts = np.where(low, watts * (1.25 if self.seed % 2 else 0.8), watts)
            va = np.maximum(va, watts)
        return {
            "watts": self._shown("watts", watts),
            "volts": self._shown("volts", volts),
            "amps": self._shown("amps", va / volts),
            "va": self._shown("va", va),
            "pf": np.clip(np.round(watts / np.maximum(va, 1e-9), 2), 0, 1),
            "hz": np.round(sample.hz.mean(axis=1), 1),
        }

    def capture(self, line: Timeline, start_s: float, end_s: float) -> Capture:
        """Its readings from one moment to another, as a capture."""
        time = np.arange(start_s, end_s, self.interval_s)
        parts = [self.read(line, time[i : i + _BLOCK]) for i in range(0, len(time), _BLOCK)]
        columns = {name: np.concatenate([part[name] for part in parts]) for name in parts[0]}
        return Capture(time - start_s, columns)

    def counter_wh(self, line: Timeline, start_s: float, end_s: float) -> float:
        """Its energy counter after a reset at ``start_s``, Wh."""
        true = line.mean_w(start_s, end_s) * (end_s - start_s) / 3600
        step = self.instrument.steps.get("wh", 10.0)
        return float(np.floor(true * self._gain("watts") / step) * step)


def plug_meter(seed: int = 0) -> Meter:
    """A plug meter with one reading per second."""
    return Meter(INSTRUMENTS["plug"], seed, 1.0)


def panel_logger(seed: int = 0) -> Meter:
    """A panel logger with one reading every ten seconds."""
    return Meter(INSTRUMENTS["logger"], seed, 10.0)


def clamp_inrush(line: Timeline, start_s: float, seed: int = 0, whole_cable: bool = False) -> float:
    """A clamp's inrush mode: the highest 100 ms RMS current within half a second of a start, A."""
    if whole_cable:
        return _CANCELLED_A
    time = start_s - 0.1 + np.arange(70) * 0.01
    squares = line.sample(np.maximum(time, 0.0)).amps ** 2
    window = round(INRUSH_S / 0.01)
    sums = np.concatenate(([0.0], np.cumsum(squares)))
    rms = np.sqrt((sums[window:] - sums[:-window]) / window)
    shown = Meter(INSTRUMENTS["clamp"], seed)._shown("amps", rms.max()[None])
    return float(shown[0])
