"""Forms of guided tests: fields named as the document's keys, validated by the core."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from django import forms
from django.utils import timezone

from needle.document import DocumentError
from needle.supply.supply import parse_supply
from needle.supply.supply_tests import log_from_text
from web.common.fields import QuantityField, moment_field, share_field
from web.common.forms import OnceMixin
from web.supplies.models import Supply, SupplyTest

#: Rows for paired readings, and how many of them stand before the fold: enough for a line.
PAIRS, SHOWN_PAIRS = 8, 3


class SupplyTestForm(OnceMixin, forms.Form):
    """Base of the tests' forms."""

    type: ClassVar[str]
    title: ClassVar[str]
    steps: ClassVar[tuple[str, ...]]
    caution: ClassVar[str] = ""
    main: ClassVar[tuple[str, ...]]
    #: Whether the simulated supply can run it.
    simulated: ClassVar[bool] = True
    names: ClassVar[dict[str, str]] = {}

    #: Whether its fields are shown in pairs, AC beside DC.
    paired: ClassVar[bool] = False

    def __init__(self, supply: Supply, *args: Any, **kwargs: Any) -> None:
        self.supply = supply
        super().__init__(*args, **kwargs)
        self.fields["tested_at"] = moment_field(
            label="Tested at", required=False, initial=timezone.localtime
        )
        self.fields["note"] = forms.CharField(max_length=400, required=False)
        self.add_guards(None)

    def document(self, cleaned: Mapping[str, Any]) -> dict[str, Any]:
        """Cleaned fields as the document's keys."""
        raise NotImplementedError

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or {}
        if not self.errors:
            try:
                self.data_to_store = self.document(cleaned)
                test = {"type": self.type, **self.data_to_store}
                parse_supply({**self.supply.to_document(), "tests": [test]})
            except DocumentError as error:
                self.add_core_error(error, self.names)
        return cleaned

    def as_test(self) -> SupplyTest:
        """The test to store, from a valid form."""
        cleaned = self.cleaned_data
        return SupplyTest(
            supply=self.supply,
            type=self.type,
            data=self.data_to_store,
            note=cleaned["note"],
            tested_at=cleaned["tested_at"] or timezone.now(),
        )

    def outputs(self, ac: bool = True) -> list[tuple[str, str]]:
        """Outputs to choose from."""
        outputs = [(output.name, output.name) for output in self.supply.known_outputs()]
        has_ac = ac and self.supply.continuous_w
        return [("ac", "AC, through the inverter"), *outputs] if has_ac else outputs


def _charge(label: str, **kwargs: Any) -> QuantityField:
    return share_field(label=label, required=kwargs.pop("required", False), **kwargs)


def _share(value: float | None) -> float | None:
    return None if value is None else value / 100


def _given(values: dict[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in values.items() if value not in (None, "")}


class IdleForm(SupplyTestForm):
    type = "idle"
    title = "Idle test"
    main = ("output", "start", "end", "hours", "watts")
    names = {"from": "start", "to": "end"}
    steps = (
        "Charge it full. Note the charge and the time.",
        "Switch the output on with nothing plugged in. Switch the others off.",
        "Leave it for several hours: a drop of ten steps of the display is within 5 %.",
        "Note the charge and the time again. Idle W = drop × Wh ÷ h.",
        "A shunt monitor on the battery shows it at once: give its watts instead.",
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["output"].choices = self.outputs()  # type: ignore[attr-defined]

    output = forms.ChoiceField(label="Output that is on")
    start = _charge("Charge at the start", initial="100 %")
    end = _charge("Charge at the end")
    hours = QuantityField("h", label="Time between", most=1000, above=True, required=False)
    step = _charge("The display's step", initial="1 %", help_text="A bar of five is 20 %.")
    watts = QuantityField(
        "W",
        label="Or read directly",
        most=10_000,
        required=False,
        help_text="On the battery side.",
    )

    def document(self, cleaned: Mapping[str, Any]) -> dict[str, Any]:
        if cleaned["watts"] is not None:
            return {"output": cleaned["output"], "watts": cleaned["watts"]}
        return _given(
            {
                "output": cleaned["output"],
                "from": _share(cleaned["start"]),
                "to": _share(cleaned["end"]),
                "hours": cleaned["hours"],
                "step": _share(cleaned["step"]),
            }
        )


class EfficiencyForm(SupplyTestForm):
    type = "efficiency"
    title = "Efficiency test"
    paired = True
    main = tuple(f"{side}_{row}" for row in range(SHOWN_PAIRS) for side in ("ac", "dc"))
    steps = (
        "Put a shunt monitor on the battery side and a plug meter on the AC side.",
        "Nothing plugged in: read the DC watts. That is the first pair, with 0 W AC.",
        "Plug in steady loads, small to large: lamps, then heaters. Near 5, 15, 35 and 70 % of its "
        "continuous watts tell most.",
        "Wait each time until both needles are steady, and read both at the same moment.",
        "Three pairs are enough for a line; five tell how far it bends. One alone says a little.",
    )
    caution = (
        "Work on the battery side is for people who know it: fuse at the battery, no loose tools."
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for row in range(PAIRS):
            for side, words in (("ac", "AC watts"), ("dc", "DC watts")):
                self.fields[f"{side}_{row}"] = QuantityField(
                    "W", label=f"{words}, pair {row + 1}", most=1e6, required=False
                )
        self.fields["ac_limit"] = share_field(
            label="AC meter, ±", most=20, above=True, required=False, initial="1 %"
        )
        self.fields["dc_limit"] = share_field(
            label="DC meter, ±", most=20, above=True, required=False, initial="1 %"
        )

    def document(self, cleaned: Mapping[str, Any]) -> dict[str, Any]:
        pairs = []
        for row in range(PAIRS):
            ac, dc = cleaned[f"ac_{row}"], cleaned[f"dc_{row}"]
            if (ac is None) != (dc is None):
                self.add_error(f"ac_{row}" if ac is None else f"dc_{row}", "Its pair is missing.")
            elif ac is not None:
                pairs.append([ac, dc])
        limits = {name: _share(cleaned[name]) for name in ("ac_limit", "dc_limit")}
        return {"pairs": pairs, **_given(limits)}


class CapacityForm(SupplyTestForm):
    type = "capacity"
    title = "Capacity test"
    main = ("counted", "start", "end", "wh", "hours")
    names = {"from": "start", "to": "end", "wh": "wh"}
    steps = (
        "Charge it full and let it rest. Reset the counter: a shunt on the battery is best, a plug "
        "meter behind the inverter will do.",
        "Put a steady load on it, near what it will carry.",
        "Note hours, charge and counter now and then; closer together towards the end.",
        "Stop where you want to: at 5 to 20 % to spare the battery, at the cut-off for the truth.",
        "Holds = Wh counted ÷ the share of the charge that went.",
    )
    caution = "Do not drain a lead-acid battery below half often: it ages by it."

    counted = forms.ChoiceField(label="Where the Wh were counted")
    start = _charge("Charge at the start", initial="100 %")
    end = _charge("Charge at the end")
    wh = QuantityField("Wh", label="Wh counted", most=1e7, above=True, required=False)
    hours = QuantityField("h", label="Hours it took", most=2000, above=True, required=False)
    step = _charge("The display's step", initial="1 %", help_text="0 for a run to the cut-off.")
    log = forms.CharField(
        label="Or the drain log",
        required=False,
        max_length=20_000,
        widget=forms.Textarea(attrs={"rows": 6, "placeholder": "0, 100, 0\n4, 84, 820"}),
        help_text="A row a check: hours, charge in %, Wh counted.",
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        behind = (
            [("ac", "behind the inverter, by a plug meter")] if self.supply.continuous_w else []
        )
        self.fields["counted"].choices = [  # type: ignore[attr-defined]
            ("battery", "at the battery, by a shunt or its display"),
            *behind,
        ]

    def document(self, cleaned: Mapping[str, Any]) -> dict[str, Any]:
        own = {
            "counted": cleaned["counted"],
            "from": _share(cleaned["start"]),
            "to": _share(cleaned["end"]),
            "step": _share(cleaned["step"]),
        }
        if cleaned["log"].strip():
            return _given({**own, "log": log_from_text(cleaned["log"])})
        return _given({**own, "wh": cleaned["wh"], "hours": cleaned["hours"]})


class RouteForm(SupplyTestForm):
    type = "route"
    title = "AC against DC"
    main = ("load", "output", "hours", "ac_end", "dc_end")
    names = {"to": "ac_end"}
    steps = (
        "Choose a load that runs on both: on its AC adapter, and straight from a DC or USB output.",
        "Full battery, load on AC, DC outputs off: note charge and time, leave it for hours.",
        "Full again, load on the output, inverter off: the same hours.",
        "A meter at the load on each route tells conversion apart from idle draw.",
    )

    load = forms.ChoiceField(label="Load")
    output = forms.ChoiceField(label="Against which output")
    hours = QuantityField("h", label="Hours on each", most=1000, above=True)
    step = _charge("The display's step", initial="1 %")
    ac_start = _charge("On AC: charge at the start", initial="100 %")
    ac_end = _charge("On AC: charge at the end", required=True)
    ac_wh = QuantityField(
        "Wh",
        label="On AC: Wh at the load",
        most=1e6,
        above=True,
        required=False,
        help_text="By a plug meter.",
    )
    dc_start = _charge("On DC: charge at the start", initial="100 %")
    dc_end = _charge("On DC: charge at the end", required=True)
    dc_wh = QuantityField(
        "Wh",
        label="On DC: Wh at the load",
        most=1e6,
        above=True,
        required=False,
        help_text="By a USB or DC meter.",
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        loads = [(load.name, load.name) for load in self.supply.job.loads.live()]
        self.fields["load"].choices = loads  # type: ignore[attr-defined]
        self.fields["output"].choices = self.outputs(ac=False)  # type: ignore[attr-defined]

    def document(self, cleaned: Mapping[str, Any]) -> dict[str, Any]:
        runs = {
            side: _given(
                {
                    "from": _share(cleaned[f"{side}_start"]),
                    "to": _share(cleaned[f"{side}_end"]),
                    "load_wh": cleaned[f"{side}_wh"],
                }
            )
            for side in ("ac", "dc")
        }
        for side, run in runs.items():
            if run["to"] >= run.get("from", 1.0):
                raise DocumentError(f"{side}_end", "must be below the charge at the start")
        return _given(
            {
                "load": cleaned["load"],
                "output": cleaned["output"],
                "hours": cleaned["hours"],
                "step": _share(cleaned["step"]),
                **runs,
            }
        )


class TogetherForm(SupplyTestForm):
    type = "together"
    title = "Everything together"
    main = ("loads", "hours", "wh", "watts")
    simulated = False
    steps = (
        "Run what the plan runs, on this supply, and nothing else.",
        "Count Wh at the battery over some hours: a shunt, or the supply's display. A day is best; "
        "an hour of boxes that cycle says little.",
        "What the loads take with the supply's own losses is then known together, better than "
        "each of them alone: plans that have all of these loads rest on it.",
    )

    loads = forms.MultipleChoiceField(label="What ran", widget=forms.CheckboxSelectMultiple)
    hours = QuantityField("h", label="Over", most=2000, above=True)
    wh = QuantityField("Wh", label="Wh at the battery", most=1e8, above=True, required=False)
    watts = QuantityField(
        "W",
        label="or mean W at the battery",
        most=1e6,
        above=True,
        required=False,
        help_text="14.2 A @ 13.1 V will do, where it stays so.",
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        names = [(load.name, load.name) for load in self.supply.job.loads.live()]
        self.fields["loads"].choices = names  # type: ignore[attr-defined]

    def document(self, cleaned: Mapping[str, Any]) -> dict[str, Any]:
        if (cleaned["wh"] is None) == (cleaned["watts"] is None):
            raise DocumentError("wh", "give the Wh, or the mean W: one of the two")
        keys = ("loads", "hours", "wh", "watts")
        return _given({key: cleaned[key] for key in keys})


FORMS: dict[str, type[SupplyTestForm]] = {
    form.type: form for form in (IdleForm, EfficiencyForm, CapacityForm, RouteForm, TogetherForm)
}
