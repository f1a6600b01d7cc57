"""States of a load, from spot readings and labels."""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace

from needle import electrical
from needle.estimate import Estimate, from_limits, pool, product
from needle.measure.agreement import Agreement
from needle.measure.instruments import Instrument
from needle.measure.readings import (
    ChargeDrop,
    EnergyRun,
    Label,
    Reading,
    Recorded,
    ShortRun,
    Spot,
    Tally,
    Task,
)
from needle.message import Message, message
from needle.profile.kinds import Kind
from needle.quantity import MOST_DC_V

RESTING = ("resting", "idle", "standby", "off")
HP_W = 746.0
#: Shaft W over input W of small motors (general).
MOTOR_EFFICIENCY = (0.5, 0.65, 0.85)
#: Long-running load behind a breaker, as a share of the breaker's rating: circuits are laid
#: out for at most 80 % of it (NFPA 70, 210.20(A)), and many carry far less.
_BREAKER_SHARE = (0.12, 0.31, 0.8)


@dataclass(frozen=True)
class State:
    """A state in one setting.

    Attributes
    ----------
    name, setting : str
        Names as given in the readings.
    watts : Estimate
        True power, W.
    power_factor : Estimate or None
        Power factor, if read or computable.
    va_spread : float or None
        Relative sd of its VA if these were read: errors of W and power factor in one reading are
        not independent.
    """

    name: str
    setting: str
    watts: Estimate
    power_factor: Estimate | None
    va_spread: float | None = None


def chosen_setting(readings: Sequence[Reading], wanted: str = "") -> str:
    """Setting of the profile: the wanted one, else the best measured one.

    Readings of energy come before momentary ones, and these before assumptions; then readings
    without a setting, then the most frequent setting.
    """
    if wanted:
        return wanted
    named = Counter(
        reading.context.setting for reading in readings if not isinstance(reading, Label)
    )
    if not named:
        return ""
    worth = {
        name: max(_worth(reading) for reading in readings if reading.context.setting == name)
        for name in named
    }
    return min(named, key=lambda name: (-worth[name], name != "", -named[name], name))


def _worth(reading: Reading) -> int:
    """Rank of a reading for the energy in its setting: counted, momentary, or neither."""
    if isinstance(reading, EnergyRun | Recorded | ChargeDrop | Task | ShortRun):
        return 2
    return 1 if isinstance(reading, Spot | Tally) else 0


def in_setting(readings: Sequence[Reading], setting: str) -> list[Reading]:
    """Readings of a setting, and readings without a setting."""
    return [reading for reading in readings if reading.context.setting in ("", setting)]


def repeated_spread(values: Sequence[float], accuracy: float, prior: float) -> float:
    """Relative spread of the mean of repeated readings.

    The scatter of one reading is estimated from the deviations of the logarithms together with one
    pseudo-observation of the ``prior`` spread, so that one reading has the prior spread and two
    equal readings are not certain; it is divided by the root of the count, and the instrument's own
    accuracy, common to all, is added.
    """
    logs = [math.log(max(value, 1e-9)) for value in values]
    centre = sum(logs) / len(logs)
    scatter = math.sqrt((prior**2 + sum((log - centre) ** 2 for log in logs)) / len(logs))
    return math.hypot(accuracy, scatter / math.sqrt(len(logs)))


def find_states(
    spots: Sequence[Spot], kind: Kind, mains_v: float
) -> tuple[list[State], list[Message]]:
    """Pool spot readings into states; unusable readings become notices.

    Returns
    -------
    states : list of State
        In order of setting, then of W.
    notices : list of Message
    """
    notices: list[Message] = []
    groups: dict[tuple[str, str], list[_Read]] = defaultdict(list)
    for spot in spots:
        read, notice = _read(spot, kind, mains_v)
        if notice is not None:
            notices.append(notice)
        if read is not None:
            groups[(spot.context.setting, spot.state)].append(read)
    states = [
        _pooled(name, setting, reads, kind.level_spread)
        for (setting, name), reads in groups.items()
    ]
    states.sort(key=lambda state: (state.setting, state.watts.value, state.name))
    return states, sorted(set(notices), key=repr)


@dataclass(frozen=True)
class _Read:
    """One spot reading: W, power factor, accuracy of the W, and VA with their accuracy if read."""

    watts: Estimate
    power_factor: float | None
    accuracy: float
    va: float | None = None
    va_accuracy: float = 0.0


def _read(spot: Spot, kind: Kind, mains_v: float) -> tuple[_Read | None, Message | None]:
    """Real power of a spot reading, and notices."""
    agreement = spot.agreement()
    meter = spot.context.meter()
    notice = None
    if not agreement.consistent:
        notice = message("spot-disagrees", state=spot.state, why=agreement.message)
    if not agreement.usable:
        return None, notice
    if agreement.watts is not None:
        return _read_watts(agreement, agreement.watts, meter), notice
    va = agreement.va if agreement.va is not None else mains_v * (agreement.amps or 0.0)
    assumed = from_limits(*kind.power_factor, message("pf-assumed", kind=kind.one))
    how = (message("va-read", va=va, meter=meter.words),)
    apparent = Estimate(va, meter.relative_sd("amps", agreement.amps or va), "B", how)
    if kind.power_factor[0] >= 1 or _is_dc(spot.volts):
        return _Read(replace(apparent, how=how), None, apparent.spread), notice
    spread = apparent.spread
    notice = notice or message(
        "only-va-known",
        state=spot.state,
        setting=spot.context.setting,
        low=kind.power_factor[0],
        high=kind.power_factor[2],
    )
    return _Read(product(apparent, assumed), agreement.power_factor, spread, va, spread), notice


def _read_watts(agreement: Agreement, read_w: float, meter: Instrument) -> _Read:
    accuracy = meter.relative_sd("watts", read_w)
    if read_w < meter.least_w:
        accuracy = max(accuracy, 0.3)
    how = (message("watts-read", watts=read_w, meter=meter.words),)
    watts = Estimate(read_w, accuracy, "B", how)
    if not agreement.va:
        return _Read(watts, agreement.power_factor, accuracy)
    va_accuracy = meter.relative_sd("va", agreement.va)
    return _Read(watts, agreement.power_factor, accuracy, agreement.va, va_accuracy)


def _is_dc(volts: float | None) -> bool:
    """Whether the volts are too low for mains, so that they must be DC."""
    return volts is not None and volts <= MOST_DC_V


def _pooled(name: str, setting: str, reads: Sequence[_Read], prior: float) -> State:
    reads = sorted(reads, key=lambda read: (read.watts.grade, read.watts.value, read.accuracy))
    best = [field for field in reads if field.watts.grade == reads[0].watts.grade]
    values = [reading.watts.value for reading in best]
    spread = repeated_spread(values, min(reading.accuracy for reading in best), prior)
    if best[0].watts.grade == "D":
        spread = max(spread, best[0].watts.spread)
    centre = sum(values) / len(values)
    how = best[0].watts.how
    if len(best) > 1:
        how = (message("readings-between", count=len(best), low=min(values), high=max(values)),)
    factors = [field.power_factor for field in reads if field.power_factor]
    factor = None
    if factors:
        mean_pf = min(1.0, sum(factors) / len(factors))
        pf_how = (message("pf-read", power_factor=mean_pf),)
        factor = Estimate(mean_pf, repeated_spread(factors, 0.01, 0.03), "B", pf_how, 1.0)
    watts = Estimate(centre, spread, best[0].watts.grade, how)
    return State(name, setting, watts, factor, _va_spread(best, prior))


def _va_spread(reads: Sequence[_Read], prior: float) -> float | None:
    """Relative sd of a state's VA; None if any of its readings lacks them."""
    read_va = [(read.va, read.va_accuracy) for read in reads if read.va is not None]
    if len(read_va) < len(reads):
        return None
    accuracy = min(accuracy for _, accuracy in read_va)
    return repeated_spread([va for va, _ in read_va], accuracy, prior)


def running_from_label(labels: Sequence[Label], kind: Kind, mains_v: float) -> Estimate | None:
    """Running W from rated figures: labels are upper bounds, so the range is wide (grade D).

    Two figures of one label (input W and shaft horsepower) are pooled; the breaker is an upper
    bound of what runs for minutes. Of several labels the highest counts.
    """
    plates = [plate for label in labels if (plate := _of_label(label, kind, mains_v)) is not None]
    return max(plates, key=lambda plate: plate.value) if plates else None


def _of_label(label: Label, kind: Kind, mains_v: float) -> Estimate | None:
    volts = label.volts or mains_v
    ways = [way for way in (_rated_input(label, kind, volts), _at_the_shaft(label)) if way]
    if label.breaker_a is None:
        return pool(ways) if ways else None
    breaker_va = electrical.apparent_va(volts, label.breaker_a)
    bound = message("breaker-bounds", breaker_a=label.breaker_a, va=breaker_va)
    if ways:
        known = pool(ways)
        value = min(known.value, breaker_va)
        return replace(known, value=value, how=(*known.how, bound), most=breaker_va)
    low, typical, high = (share * breaker_va for share in _BREAKER_SHARE)
    return replace(from_limits(low, typical, high, bound), most=breaker_va)


def _rated_input(label: Label, kind: Kind, volts: float) -> Estimate | None:
    """Running W from rated W, else from rated VA or amps."""
    if label.watts is not None:
        return _plate(label.watts, kind, message("label-watts", watts=label.watts))
    if label.va is None and label.amps is None:
        return None
    va = label.va
    if va is None:
        va = electrical.apparent_va(volts, label.amps or 0.0)
    plate = _plate(va, kind, message("label-va", va=va))
    if _is_dc(label.volts):
        return plate
    return product(plate, from_limits(*kind.power_factor, message("pf-assumed", kind=kind.one)))


def _at_the_shaft(label: Label) -> Estimate | None:
    """Running W from horsepower, which is a motor's power at the shaft."""
    if label.horsepower is None:
        return None
    low, typical, high = MOTOR_EFFICIENCY
    shaft_w = label.horsepower * HP_W
    input_w = [electrical.motor_input_w(shaft_w, share) for share in (high, typical, low)]
    return from_limits(
        input_w[0],
        input_w[1],
        input_w[2],
        message("label-horsepower", horsepower=label.horsepower, low=low, high=high),
    )


def over_breaker(labels: Sequence[Label], states: Sequence[State], mains_v: float) -> list[Message]:
    """States with more power than the label's breaker carries for minutes."""
    return [
        message(
            "over-breaker",
            state=state.name,
            watts=state.watts.value,
            breaker_a=label.breaker_a,
            va=bound_va,
        )
        for label in labels
        if label.breaker_a is not None
        for state in states
        if state.watts.low > (bound_va := (label.volts or mains_v) * label.breaker_a)
    ]


def _plate(rated: float, kind: Kind, label: Message) -> Estimate:
    low, typical, high = kind.plate
    how = message("label-plate", label=label, low=low, high=high, kind=kind.one)
    return from_limits(rated / high, rated / typical, rated / low, how)
