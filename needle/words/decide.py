"""Sentences on comparisons, cords, capacitors, and loads on supplies."""

from __future__ import annotations

from collections.abc import Mapping

from needle.words.figures import Sentence, Units


def _capacitance(said: str) -> Sentence:
    def worded(_: Units, fitted_uf: float, missing_uf: float, first_uf: float) -> str:
        total = (
            f"{fitted_uf:.3g} µF fitted + {missing_uf:.3g} µF still missing = "
            f"{fitted_uf + missing_uf:.3g} µF"
        )
        leads = " The current leads now: fit less." if missing_uf < 0 else ""
        return said.format(total=total, first_uf=first_uf) + leads

    return worded


SENTENCES: Mapping[str, Sentence] = {
    "unlike-rooms": "the room in which they were measured",
    "rooms-unknown": "the room: not written down for all of them",
    "unlike-set-points": "the set point",
    "unlike-sizes": "their size: compare per litre",
    "unlike-grades": "how well they are measured: grades {grades:list}",
    "settings-of-some": "a setting is named for some and not for others",
    "cord-dips": (
        "The start dips {dip:whole %}: a motor may not start on it. Use a shorter or thicker cord."
    ),
    "cord-drops": "It drops {drop:%} while running: use a shorter or thicker cord.",
    "cord-carries": "It carries this. Uncoil it, and keep within its rated amps.",
    "motor-on-steps": "runs hot on a modified sine",
    "drive-on-steps": "may refuse a modified sine",
    "battery-gives-way": "the battery gives way at its start",
    "start-needs-charge": (
        "not below {least:whole %} charge: its start pulls the battery under cut-off"
    ),
    "capacitor-caution": (
        "Motor-run types only, self-discharging, rated for at least 1.5 times the mains voltage, "
        "fitted by someone qualified: a capacitor holds its charge."
    ),
    "pf-good-already": "The power factor is {power_factor:.2f} already: no capacitor is needed.",
    "no-stock-value": "No stock value is small enough for {target_uf:.1f} µF.",
    "beyond-unity": (
        "{used_uf:g} µF is beyond unity at {unity_uf:.1f} µF: the current leads, which upsets "
        "inverters, and the motor can excite itself. Fit less."
    ),
    "capacitance-agrees": _capacitance(
        "{total}, as first estimated ({first_uf:.3g} µF): the readings bear each other out."
    ),
    "capacitance-differs": _capacitance(
        "{total}, but {first_uf:.3g} µF were estimated at first: one of the readings is off, the "
        "capacitor is not what is printed on it, or the current is distorted."
    ),
}
