"""Cell chemistries: one record each, with all figures that depend on the chemistry.

Open-circuit volts of a rested cell at 25 °C by charge. Lead-acid: specific gravity 1.265, 1.225,
1.190, 1.155 and 1.120 at 100, 75, 50, 25 and 0 %, as commonly tabled for starting and deep-cycle
batteries, plus 0.845 V (D. Linden and T. Reddy, "Handbook of Batteries", 3rd ed. 2002, ch. 23).
Lithium chemistries: rounded from the shapes in G. Plett, "Battery Management Systems", vol. 1,
2015, ch. 2; within ±0.03 V above 20 % and ±0.15 V below 10 %, where makes differ. The other figures
are general engineering values; the floor is the user's choice.
"""

from __future__ import annotations

from dataclasses import dataclass

#: Share of its capacity an hour that a full battery still takes (general value).
TRICKLE_PER_H = 0.02


@dataclass(frozen=True)
class Chemistry:
    """A cell chemistry.

    Attributes
    ----------
    key, name : str
    floor : float
        Share of the capacity that is usually not used.
    peukert_n : float
        Peukert's exponent.
    charge_efficiency : float
        Wh stored over Wh put in.
    cell_v, cutoff_v : float
        Volts of a cell: nominal, and at which discharge usually ends.
    ohm_ah : float
        Usual resistance times capacity of a cell, Ω·Ah.
    open_circuit : tuple of (share, V)
        Open-circuit voltage of a rested cell at 25 °C, charge rising.
    yearly_loss : (loss, sd)
        Capacity lost in a year, and its spread between batteries, as logarithms.
    cold_per_c : float
        Share of the capacity lost per °C below 25 °C.
    takes_per_h : float
        Charging rate near full: capacity per hour, per missing share. A charger's power above it
        is not used, so that a small charger tapers late and a large one early.
    least_charge_c : float or None
        Lowest temperature for charging, °C; None without a limit.
    """

    key: str
    name: str
    floor: float
    peukert_n: float
    charge_efficiency: float
    cell_v: float
    cutoff_v: float
    ohm_ah: float
    open_circuit: tuple[tuple[float, float], ...]
    yearly_loss: tuple[float, float]
    cold_per_c: float = 0.004
    takes_per_h: float = 5.0
    least_charge_c: float | None = 0.0

    def may_charge(self, battery_c: float) -> bool:
        """Whether it may be charged at a temperature, °C."""
        return self.least_charge_c is None or battery_c >= self.least_charge_c


_LITHIUM_V = (
    (0.0, 3.00),
    (0.05, 3.35),
    (0.1, 3.45),
    (0.2, 3.55),
    (0.3, 3.61),
    (0.4, 3.65),
    (0.5, 3.70),
    (0.6, 3.78),
    (0.7, 3.88),
    (0.8, 3.98),
    (0.9, 4.07),
    (1.0, 4.18),
)
_IRON_PHOSPHATE_V = (
    (0.0, 2.60),
    (0.03, 2.95),
    (0.05, 3.05),
    (0.1, 3.18),
    (0.2, 3.25),
    (0.3, 3.28),
    (0.5, 3.30),
    (0.7, 3.33),
    (0.9, 3.34),
    (0.97, 3.36),
    (1.0, 3.45),
)
_LEAD_V = ((0.0, 1.965), (0.25, 2.000), (0.5, 2.035), (0.75, 2.070), (1.0, 2.110))

CHEMISTRIES = {
    chemistry.key: chemistry
    for chemistry in (
        Chemistry(
            "lfp",
            "lithium iron phosphate",
            floor=0.10,
            peukert_n=1.0,
            charge_efficiency=0.96,
            cell_v=3.2,
            cutoff_v=2.5,
            ohm_ah=0.08,
            open_circuit=_IRON_PHOSPHATE_V,
            yearly_loss=(0.02, 0.015),
        ),
        Chemistry(
            "lithium",
            "other lithium",
            floor=0.15,
            peukert_n=1.0,
            charge_efficiency=0.95,
            cell_v=3.65,
            cutoff_v=3.0,
            ohm_ah=0.10,
            open_circuit=_LITHIUM_V,
            yearly_loss=(0.035, 0.025),
        ),
        Chemistry(
            "lead",
            "lead-acid",
            floor=0.50,
            peukert_n=1.15,
            charge_efficiency=0.85,
            cell_v=2.0,
            cutoff_v=1.75,
            ohm_ah=0.08,
            open_circuit=_LEAD_V,
            yearly_loss=(0.08, 0.06),
            cold_per_c=0.008,
            takes_per_h=1.0,
            least_charge_c=None,
        ),
        Chemistry(
            "usb",
            "USB bank (lithium, its own cut-off)",
            floor=0.0,
            peukert_n=1.0,
            charge_efficiency=0.95,
            cell_v=3.65,
            cutoff_v=3.0,
            ohm_ah=0.10,
            open_circuit=_LITHIUM_V,
            yearly_loss=(0.05, 0.04),
        ),
    )
}
