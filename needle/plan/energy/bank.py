"""The battery minute by minute: state of charge, floor, voltage sag, recovery and charging.

Arrays are (draws, minutes of the block). Positive power is power out of the battery.
"""

from __future__ import annotations

from collections.abc import Sequence
from copy import copy
from dataclasses import dataclass

import numpy as np

from needle.plan.draws.uses import STRETCH
from needle.plan.energy.battery_draws import BatteryDraws
from needle.plan.plan import Plan, room_by_minute
from needle.supply.battery import (
    Battery,
    cost_per_wh,
)
from needle.supply.chemistry import CHEMISTRIES, TRICKLE_PER_H
from needle.supply.voltage import most_w, open_circuit_v

#: Charge above that of the stop at which everything comes on again (share).
RECOVERY = 0.05
MINUTES_PER_HOUR = 60
#: Minutes worked on at a time.
BLOCK = STRETCH
#: Minutes that are tried in one go where sources give: with few draws few are tried again.
CHUNK_MIN, FEW_DRAWS = 60, 100


@dataclass(frozen=True)
class Flow:
    """Energy flows of a block, (draws, minutes) each.

    Attributes
    ----------
    charge : ndarray
        State of charge at the end of each minute, share.
    served : ndarray
        Share of each minute in which the loads had power.
    into_w, out_w : ndarray
        W into and out of the battery's terminals.
    sources_w : ndarray
        W taken from the sources.
    other_w : ndarray
        The part of ``sources_w`` that came from another battery, W.
    """

    charge: np.ndarray
    served: np.ndarray
    into_w: np.ndarray
    out_w: np.ndarray
    sources_w: np.ndarray
    other_w: np.ndarray

    def arrays(self) -> tuple[np.ndarray, ...]:
        return self.charge, self.served, self.into_w, self.out_w, self.sources_w, self.other_w

    def transposed(self) -> Flow:
        """The flows with draws and minutes exchanged."""
        return Flow(*(array.T for array in self.arrays()))


def concatenate(flows: Sequence[Flow], axis: int = 1) -> Flow:
    """Flows concatenated in time."""
    several = zip(*(flow.arrays() for flow in flows), strict=True)
    return Flow(*(np.concatenate(arrays, axis=axis) for arrays in several))


def may_charge(plan: Plan, minutes: int) -> np.ndarray:
    """Whether a plan's battery may be charged in each minute, (minutes,): frost may forbid it."""
    rooms, chemistry = room_by_minute(plan, minutes), CHEMISTRIES[plan.supply.battery.chemistry]
    if rooms is None or chemistry.least_charge_c is None:
        return np.ones(minutes, dtype=bool)
    return np.asarray(rooms >= chemistry.least_charge_c)


def peukert_w(
    battery: Battery,
    out_w: np.ndarray,
    capacity_wh: np.ndarray,
    n: np.ndarray,
    slow: np.ndarray,
) -> np.ndarray:
    """Rate at which the charge falls, W, for a power out of the battery.

    See :func:`needle.supply.battery.cost_per_wh`.
    """
    if battery.peukert_n <= 1.0:
        return out_w
    return np.asarray(out_w * cost_per_wh(out_w / (capacity_wh / battery.rated_hours), n, slow))


#: What a bank keeps of each draw: as it was given, and as it stands.
_GIVEN = ("capacity_wh", "peukert_n", "slow", "takes_w", "trickle_w", "ohm", "floor")
_STATE = ("charge", "stopped", "stop_min", "cut_off", "back_at", "other_wh")


class Bank:
    """The battery of a plan in every draw.

    Parameters
    ----------
    plan : Plan
    drawn : BatteryDraws
    minutes : int
        Length of the plan.
    other_wh : float
        Energy of other batteries that feed in, Wh.
    """

    def __init__(
        self, plan: Plan, drawn: BatteryDraws, minutes: int, other_wh: float = 0.0
    ) -> None:
        self.battery = plan.supply.battery
        self.chemistry = CHEMISTRIES[self.battery.chemistry]
        self.set_parameters(drawn)
        draws = len(self.capacity_wh)
        #: Share at which each draw stops.
        self.floor = np.full(draws, self.battery.floor)
        self.charge = np.full(draws, self.battery.start_charge)
        self.stopped = np.zeros(draws, dtype=bool)
        #: Minute of the first stop; infinite while there was none.
        self.stop_min = np.full(draws, np.inf)
        self.cut_off = np.zeros(draws, dtype=bool)
        self.back_at = np.full(draws, np.inf)
        self.other_wh = np.full(draws, other_wh)
        self.may_charge = may_charge(plan, minutes)

    def set_parameters(self, drawn: BatteryDraws) -> None:
        """Set the battery parameters of each draw."""
        self.capacity_wh, self.peukert_n = drawn.capacity_wh, drawn.peukert_n
        self.slow = drawn.slow
        # Accepted power, W: proportional to the missing charge, and a trickle.
        self.takes_w = drawn.takes * self.capacity_wh * self.chemistry.takes_per_h
        self.trickle_w = drawn.takes * self.capacity_wh * TRICKLE_PER_H
        self.ohm = drawn.ohm if None not in (self.battery.cutoff_v, self.battery.volts) else None

    def advance(
        self,
        first: int,
        drawn_w: np.ndarray,
        sources_w: np.ndarray | None,
        other_w: np.ndarray | None = None,
        start_w: np.ndarray | None = None,
    ) -> Flow:
        """Advance the battery through a block and return its flows.

        Parameters
        ----------
        first : int
            First minute of the block.
        drawn_w : ndarray, (draws, minutes)
            Demand at the battery, W: loads, idle draw and conversion losses.
        sources_w : ndarray, (draws or 1, minutes), or None
            Power offered by sun and chargers, W; None if the plan has no source.
        other_w : ndarray, (minutes,), or None
            Highest power of other batteries while they last, W.
        start_w : ndarray, (draws, minutes), or None
            Additional W during start-up surges, which only matter for voltage sag.
        """
        if other_w is None and (sources_w is None or not sources_w.any()):
            return self._advance_without_sources(first, drawn_w, start_w)
        offered = np.zeros_like(drawn_w) if sources_w is None else sources_w
        offered = np.broadcast_to(offered, drawn_w.shape)
        return self._advance_with_sources(first, drawn_w, offered, other_w, start_w)

    def limit_w(self, charge: np.ndarray) -> np.ndarray:
        """Power at which each draw's voltage sags to the cut-off at a state of charge, W."""
        assert self.ohm is not None
        return self._limit_w(charge, self.ohm)

    def _limit_w(self, charge: np.ndarray, ohm: np.ndarray) -> np.ndarray:
        battery = self.battery
        assert battery.volts is not None and battery.cutoff_v is not None
        rested = open_circuit_v(battery.chemistry, battery.volts, charge)
        return most_w(rested, ohm, battery.cutoff_v)

    def _advance_without_sources(
        self, first: int, drawn_w: np.ndarray, start_w: np.ndarray | None
    ) -> Flow:
        """Advance through a block without sources: what has stopped stays so."""
        if not self.stopped.any():
            return self._advance_discharging(first, drawn_w, start_w)
        none = np.broadcast_to(0.0, drawn_w.shape)
        charge = np.broadcast_to(self.charge[:, None], drawn_w.shape)
        on = np.flatnonzero(~self.stopped)
        if not on.size:
            return Flow(charge, none, none, none, none, none)
        part = self.take(on)
        starting_w = None if start_w is None else start_w[on]
        flow = part._advance_discharging(first, drawn_w[on], starting_w)
        charge, served, out_w = (values.copy() for values in (charge, none, none))
        charge[on], served[on], out_w[on] = flow.charge, flow.served, flow.out_w
        self.put(on, part)
        return Flow(charge, served, none, out_w, none, none)

    def _advance_discharging(
        self, first: int, drawn_w: np.ndarray, start_w: np.ndarray | None
    ) -> Flow:
        """Advance draws that are all on through a block without sources, as a cumulative sum."""
        floor, size = self.floor, drawn_w.shape[1]
        capacity = self.capacity_wh[:, None]
        fall = np.cumsum(
            peukert_w(self.battery, drawn_w, capacity, self.peukert_n[:, None], self.slow[:, None]),
            axis=1,
            dtype=np.float64,
        )
        fall /= MINUTES_PER_HOUR * capacity
        before = self.charge.copy()
        charge = np.subtract(before[:, None], fall, out=fall)
        end = self._floor_at(charge, before, floor)
        cut = np.zeros(len(end), dtype=bool)
        if self.ohm is not None:
            most = drawn_w if start_w is None else drawn_w + start_w
            under = most > self._limit_w(charge, self.ohm[:, None])
            at = np.where(under.any(axis=1), under.argmax(axis=1), np.inf)
            cut = at < end
            end = np.minimum(end, at)
        stops = end < size
        fresh = stops & np.isinf(self.stop_min)
        self.stop_min[fresh] = first + end[fresh]
        self.cut_off[fresh] = cut[fresh]
        served, none = (np.broadcast_to(share, charge.shape) for share in (1.0, 0.0))
        out_w = drawn_w
        ended = np.flatnonzero(stops)
        if ended.size:
            end, minutes = end[ended], np.arange(size)
            whole = end.astype(int)
            left = np.where(whole > 0, charge[ended, whole - 1], before[ended])
            at_stop = np.where(cut[ended], left, floor[ended])
            is_on = minutes + 1 <= end[:, None]
            charge[ended] = np.where(is_on, charge[ended], at_stop[:, None])
            self.back_at[ended] = at_stop + RECOVERY
            self.stopped[ended] = True
            served = np.ones(charge.shape)
            served[ended] = np.clip(end[:, None] - minutes, 0.0, 1.0)
            out_w = drawn_w * served
        self.charge = charge[:, -1].copy()
        return Flow(charge, served, none, out_w, none, none)

    @staticmethod
    def _floor_at(charge: np.ndarray, before: np.ndarray, floor: np.ndarray) -> np.ndarray:
        """Minutes into the block at which the floor is reached, interpolated."""
        size = charge.shape[1]
        if bool((charge[:, -1] > floor).all()):
            return np.full(len(charge), np.inf)
        whole = np.sum(charge > floor[:, None], axis=1)
        at = np.minimum(whole, size - 1)
        rows = np.arange(len(whole))
        start = np.where(at > 0, charge[rows, at - 1], before)
        step = start - charge[rows, at]
        part = np.divide(start - floor, step, out=np.ones_like(step), where=step > 0)
        return np.where(whole < size, whole + np.clip(part, 0, 1), np.inf)

    def _advance_with_sources(
        self,
        first: int,
        drawn_w: np.ndarray,
        offered_w: np.ndarray,
        other_w: np.ndarray | None,
        start_w: np.ndarray | None,
    ) -> Flow:
        """Advance through a block with sources, where each step depends on the charge.

        Arrays of the steps are (minutes, draws): one row is one contiguous minute.
        """
        demand_w, offers_w = np.ascontiguousarray(drawn_w.T), np.ascontiguousarray(offered_w.T)
        starts_w = None if start_w is None else np.ascontiguousarray(start_w.T)
        if other_w is not None:
            return self._advance_by_minute(
                first, demand_w, offers_w, starts_w, other_w
            ).transposed()
        stretches = []
        chunk = CHUNK_MIN if len(drawn_w) > FEW_DRAWS else BLOCK
        for place in range(0, len(demand_w), chunk):
            now = slice(place, place + chunk)
            starting_w = None if starts_w is None else starts_w[now]
            stretches.append(
                self._advance_stretch(first + place, demand_w[now], offers_w[now], starting_w)
            )
        return concatenate(stretches, axis=0).transposed()

    def _advance_stretch(
        self, first: int, demand_w: np.ndarray, offers_w: np.ndarray, starts_w: np.ndarray | None
    ) -> Flow:
        """Advance all draws by some minutes, then correct the few that stop or return within."""
        flow, has_event = self._advance_without_events(first, demand_w, offers_w, starts_w)
        before, self.charge = self.charge, flow.charge[-1].copy()
        rows = np.flatnonzero(has_event.any(axis=0))
        if not rows.size:
            return flow
        with_events = self.take(rows)
        with_events.charge = before[rows]
        starting_w = None if starts_w is None else starts_w[:, rows]
        parts = Flow(*(array[:, rows] for array in flow.arrays()))
        with_events._advance_by_event(
            first, parts, has_event[:, rows], demand_w[:, rows], offers_w[:, rows], starting_w
        )
        self.put(rows, with_events)
        for whole, part in zip(flow.arrays(), parts.arrays(), strict=True):
            whole[:, rows] = part
        return flow

    def _advance_by_event(
        self,
        first: int,
        flow: Flow,
        has_event: np.ndarray,
        demand_w: np.ndarray,
        offers_w: np.ndarray,
        starts_w: np.ndarray | None,
    ) -> None:
        """Correct, in place, the draws that stop or return, from one such event to the next."""
        minutes = np.arange(len(demand_w))[:, None]
        rows, before = np.arange(len(self.charge)), self.charge
        while rows.size:
            at = has_event[:, rows].argmax(axis=0)
            now = (at, rows)
            part = self.take(rows)
            part.charge = np.where(at > 0, flow.charge[np.maximum(at - 1, 0), rows], before[rows])
            step = part._step(
                first + at,
                demand_w[now],
                offers_w[now],
                None if starts_w is None else starts_w[now],
            )
            later = minutes > at
            demand, offers = demand_w[:, rows] * later, offers_w[:, rows] * later
            starting = None if starts_w is None else starts_w[:, rows] * later
            undisturbed, part_has_event = part._advance_without_events(
                first, demand, offers, starting
            )
            for whole, rest, moment in zip(flow.arrays(), undisturbed.arrays(), step, strict=True):
                whole[:, rows] = np.where(later, rest, whole[:, rows])
                whole[now] = moment
            part.charge = flow.charge[-1, rows]
            self.put(rows, part)
            has_event[:, rows] = part_has_event & later
            rows = rows[has_event[:, rows].any(axis=0)]

    def take(self, rows: np.ndarray) -> Bank:
        """A copy of the battery in some of the draws, in its present state."""
        picked = copy(self)
        for name in (*_GIVEN, *_STATE):
            values = getattr(self, name)
            setattr(picked, name, None if values is None else values[rows])
        return picked

    def put(self, rows: np.ndarray, picked: Bank) -> None:
        """Copy the state of some of the draws from another bank."""
        for name in _STATE:
            getattr(self, name)[rows] = getattr(picked, name)

    def _advance_by_minute(
        self,
        first: int,
        demand_w: np.ndarray,
        offers_w: np.ndarray,
        starts_w: np.ndarray | None,
        other_w: np.ndarray,
    ) -> Flow:
        """Advance minute by minute, for plans with other batteries that run down."""
        flow = Flow(*(np.zeros(demand_w.shape) for _ in range(6)))
        for m in range(len(demand_w)):
            starting = None if starts_w is None else starts_w[m]
            step = self._step(first + m, demand_w[m], offers_w[m], starting, other_w[m])
            for whole, moment in zip(flow.arrays(), step, strict=True):
                whole[m] = moment
        return flow

    def _step(
        self,
        minute: int | np.ndarray,
        demand_w: np.ndarray,
        offers_w: np.ndarray,
        start_w: np.ndarray | None,
        other_w: float | None = None,
    ) -> tuple[np.ndarray, ...]:
        """Advance by one minute (each draw's own, or one for all); return arrays as in a flow."""
        demand = np.where(self.stopped, 0.0, demand_w)
        served = (~self.stopped).astype(float)
        per_wh = 1.0 / (MINUTES_PER_HOUR * self.capacity_wh)
        gain = self.battery.charge_efficiency * per_wh
        fits = self._takes_w(1.0 - self.charge, 1.0 / gain) * self.may_charge[minute]
        direct = np.minimum(offers_w, demand)
        into = np.minimum(offers_w - direct, fits)
        from_other = np.zeros_like(demand)
        if other_w is not None:
            most = np.minimum(other_w, self.other_wh * MINUTES_PER_HOUR)
            more = np.minimum(most, demand - direct)
            filled = np.minimum(most - more, fits - into)
            from_other = more + filled
            self.other_wh = self.other_wh - from_other / MINUTES_PER_HOUR
            direct, into = direct + more, into + filled
        out = demand - direct
        fall = peukert_w(self.battery, out, self.capacity_wh, self.peukert_n, self.slow) * per_wh
        peak = out if start_w is None else out + start_w * ~self.stopped
        if self._any_stops(fall, peak):
            part = self._stop(minute, fall, out, peak)
            served *= part
            fall, direct, out = fall * part, direct * part, out * part
            from_other = from_other * part
        self.charge = self.charge - fall + into * gain
        self.stopped = self.stopped & (self.charge < self.back_at)
        return self.charge, served, into, out, direct + into, from_other

    def _advance_without_events(
        self, first: int, demand_w: np.ndarray, offers_w: np.ndarray, starts_w: np.ndarray | None
    ) -> tuple[Flow, np.ndarray]:
        """Flows as if no draw stopped or returned, and where one does.

        Returns
        -------
        Flow
            (minutes, draws); valid for each draw up to its first event.
        has_event : ndarray of bool, (minutes, draws)
        """
        on = ~self.stopped
        demand = demand_w * on
        direct = np.minimum(offers_w, demand)
        out = demand - direct
        per_wh = 1.0 / (MINUTES_PER_HOUR * self.capacity_wh)
        gain = self.battery.charge_efficiency * per_wh
        fall = peukert_w(self.battery, out, self.capacity_wh, self.peukert_n, self.slow) * per_wh
        surplus = (offers_w - direct) * self.may_charge[first : first + len(out), None]
        charge, into = self._charged(surplus, fall, gain)
        left = np.concatenate((self.charge[None], charge[:-1])) - fall
        has_event = left < self.floor
        if not on.all():
            has_event |= self.stopped & (charge >= self.back_at)
        if self.ohm is not None:
            peak = out if starts_w is None else out + starts_w * on
            has_event |= peak > self._limit_w(left, self.ohm)
        served = np.broadcast_to(on, out.shape).astype(float)
        return Flow(charge, served, into, out, direct + into, np.zeros_like(out)), has_event

    def _takes_w(self, missing: np.ndarray, fills_w: np.ndarray) -> np.ndarray:
        """Power accepted with a share missing, W, at most to fill it within the minute."""
        return np.asarray(np.minimum(self.takes_w * missing + self.trickle_w, fills_w * missing))

    def _charged(
        self, surplus_w: np.ndarray, fall: np.ndarray, gain: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """State of charge, and power accepted, in minutes with a surplus; (minutes, draws) each.

        A cumulative sum while the battery accepts all; then minute by minute as in
        :meth:`_takes_w`. Plans with sun spend most of their time in this loop.
        """
        into = surplus_w.copy()
        fills_w = 1.0 / gain
        charge = self.charge + np.cumsum(into * gain - fall, axis=0)
        missing = 1.0 - np.concatenate((self.charge[None], charge[:-1]))
        rows = (into > self._takes_w(missing, fills_w)).any(axis=1)
        if not rows.any():
            return charge, into
        first = int(rows.argmax())
        miss = missing[first].copy()
        takes, filled = np.empty_like(miss), np.empty_like(miss)
        for m in range(first, len(fall)):
            np.multiply(self.takes_w, miss, out=takes)
            takes += self.trickle_w
            np.multiply(fills_w, miss, out=filled)
            np.minimum(takes, filled, out=takes)
            np.minimum(into[m], takes, out=into[m])
            np.multiply(into[m], gain, out=filled)
            miss += fall[m]
            miss -= filled
            charge[m] = miss
        charge[first:] = 1.0 - charge[first:]
        return charge, into

    def _any_stops(self, fall: np.ndarray, peak_w: np.ndarray) -> bool:
        """Whether any draw reaches its floor or cut-off in this minute."""
        if bool(((self.charge - fall) < self.floor).any()):
            return True
        return self.ohm is not None and bool(
            (peak_w > self._limit_w(self.charge - fall, self.ohm)).any()
        )

    def _stop(
        self, minute: int | np.ndarray, fall: np.ndarray, out_w: np.ndarray, peak_w: np.ndarray
    ) -> np.ndarray:
        """Stop the draws that reach a limit; return the share of the minute that each had power."""
        floor, on = self.floor, ~self.stopped
        left = np.maximum(0.0, self.charge - floor)
        short = on & (out_w > 0) & (fall > left)
        part = np.ones_like(fall)
        part[short] = left[short] / fall[short]
        cut = np.zeros_like(on)
        if self.ohm is not None:
            cut = on & (peak_w > self._limit_w(self.charge - fall, self.ohm))
            part[cut] = 0.0
        stops = short | cut
        fresh = stops & np.isinf(self.stop_min)
        self.stop_min[fresh] = (minute + part)[fresh]
        self.cut_off[fresh] = cut[fresh]
        self.stopped |= stops
        self.back_at[stops] = np.maximum(self.charge - fall * part, floor)[stops] + RECOVERY
        return part


def stacked(banks: Sequence[Bank]) -> Bank:
    """Equal batteries as one: the draws of the first, then those of the second, and so on."""
    whole = copy(banks[0])
    for name in (*_GIVEN, *_STATE):
        values = [getattr(bank, name) for bank in banks]
        setattr(whole, name, None if values[0] is None else np.concatenate(values))
    return whole
