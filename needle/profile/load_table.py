"""A table of loads as people keep it in a spreadsheet: columns found by their names."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from needle.document import DocumentError
from needle.profile.appliances import APPLIANCES

#: Most letters of a table, rows of it, and loads that one row stands for.
MOST_LETTERS, MOST_ROWS, MOST_ALIKE = 40_000, 60, 40

#: Names of columns, in lower case and without units; the first that fits a column's title wins.
_TITLES: Mapping[str, tuple[str, ...]] = {
    "name": ("name", "load", "device", "appliance", "item", "what", "equipment", "description"),
    "watts": ("watts", "watt", "power", "wattage", "label", "rating", "rated", "w", "kw"),
    "minutes": ("minutes", "minute", "min", "mins"),
    "often": ("often", "frequency", "times", "uses"),
    "hours": ("hours", "hour", "h", "time", "daily", "use", "usage", "duration", "runtime"),
    "count": ("count", "quantity", "qty", "number", "how many", "pieces", "pcs", "no", "#"),
    "note": ("note", "notes", "remark", "remarks", "comment", "comments", "room", "place", "where"),
}
#: Titles with one of these are of energy, which no column here takes.
_ENERGY = {"wh", "kwh", "energy"}
#: Words in a title that say in how many days its hours or times are counted.
_PERIODS: Mapping[str, str] = {
    "week": "week",
    "weekly": "week",
    "wk": "week",
    "month": "month",
    "monthly": "month",
}
_NUMBER = re.compile(r"\d+(?:[.,]\d+)?")
#: Words in the name of a load, and the appliance that it then is; the first match wins.
_WORDS: Sequence[tuple[str, str]] = (
    (r"cool ?box", "cool-box"),
    (r"cpap|bipap|oxygen|concentrator|ventilator|nebuli[sz]er", "bedside"),
    (r"air.?con\w*|heat ?pump|split unit", "air-conditioner"),
    (r"dehumidifier|fridge|freezer|refrigerator|cold chest", "fridge"),
    (r"hot.?water|boiler tank|immersion", "water-tank"),
    (r"sump|float|pressure pump|well pump", "float-pump"),
    (r"pump", "pump"),
    (r"microwave|induction|hob", "cooker"),
    (r"coffee|espresso", "preheat"),
    (r"oven|iron|blanket|thermostat|radiator", "oven"),
    (r"kettle|toaster|heater|hair ?dryer", "kettle"),
    (r"router|modem|wi-?fi|charger|phone|access point|switch|alarm|clock", "router"),
    (r"tv|television|screen|monitor|laptop|computer|pc|notebook", "screen"),
    (r"radio|stereo|amplifier|speaker", "sound"),
    (r"lamp|light|lights|bulb|led", "lamp"),
    (r"fan", "fan"),
    (r"drill|saw|mixer|blender|vacuum|hoover|grinder", "tool"),
)


@dataclass(frozen=True)
class TableRow:
    """A row of a table of loads, as written.

    Attributes
    ----------
    name, watts, often, note : str
        Name, watts with or without unit, how often and how long it is used, and a note.
    appliance : str
        Key of the appliance that its name suggests; "" for none.
    """

    name: str
    watts: str = ""
    often: str = ""
    note: str = ""
    appliance: str = ""


@dataclass(frozen=True)
class _Column:
    """Place of a column, and the words of its title with its unit."""

    place: int
    words: frozenset[str] = frozenset()

    @property
    def period(self) -> str:
        """What its hours or times are counted in."""
        return next((period for word, period in _PERIODS.items() if word in self.words), "day")


@dataclass(frozen=True)
class LoadTable:
    """Loads of a table; ``unused`` are the titles of columns that say nothing of loads here."""

    rows: tuple[TableRow, ...]
    unused: tuple[str, ...] = ()


def appliance_named(name: str) -> str:
    """Key of the appliance that the name of a load suggests; "" if none does."""
    said = name.casefold()
    found = (key for words, key in _WORDS if re.search(rf"\b(?:{words})s?\b", said))
    return next((key for key in found if key in APPLIANCES), "")


def parse_load_table(text: str) -> LoadTable:
    """Read a table of loads, as copied from a spreadsheet or saved as CSV.

    Columns are found by their titles. Without titles the first column is the name, the first with
    numbers the watts, the next the hours in use a day.

    Raises
    ------
    DocumentError
        There is nothing in it, or too much.
    """
    if len(text) > MOST_LETTERS:
        raise DocumentError("table", f"is too long: at most {MOST_LETTERS} letters")
    lines = [line for line in _cells(text) if any(line)]
    if not lines:
        raise DocumentError("table", "is empty: copy some rows of your spreadsheet")
    titles = _columns(lines[0])
    if "name" in titles:
        used = {column.place for column in titles.values()}
        unused = [title for place, title in enumerate(lines[0]) if title and place not in used]
        return LoadTable(_rows_of(lines[1:], titles), tuple(unused))
    return LoadTable(_rows_of(lines, _guessed(lines)))


def _rows_of(
    lines: Sequence[Sequence[str]], columns: Mapping[str, _Column]
) -> tuple[TableRow, ...]:
    """All loads of a table's lines; refused if there are none or too many."""
    rows = tuple(row for line in lines for row in _loads_of(line, columns))
    if len(rows) > MOST_ROWS:
        raise DocumentError("table", f"has {len(rows)} loads: at most {MOST_ROWS} at once")
    if not rows:
        raise DocumentError("table", "has titles only, and no loads")
    return rows


def _cells(text: str) -> list[list[str]]:
    """Rows of trimmed cells; tabs, semicolons or commas part them, whichever the first line has."""
    first = text.lstrip("\ufeff\r\n").split("\n", 1)[0]
    parted = next((mark for mark in "\t;," if mark in first), "\t")
    reader = csv.reader(io.StringIO(text.lstrip("\ufeff"), newline=""), delimiter=parted)
    try:
        return [[cell.strip() for cell in row] for row in reader]
    except csv.Error as error:
        raise DocumentError("table", f"cannot be read: {error}") from None


def _columns(titles: Sequence[str]) -> dict[str, _Column]:
    """Each column that a title names."""
    columns: dict[str, _Column] = {}
    for place, title in enumerate(titles):
        words = re.sub(r"[\[(].*?[\])]", " ", title.casefold()).strip(" :.")
        parts = {words, *re.split(r"[\s,_/-]+", words)}
        # In brackets stands its unit: no name, but "time (min)" is of minutes.
        every = frozenset({*parts, *re.findall(r"[^\W_]+", title.casefold())})
        if every & _ENERGY:
            continue
        for column, names in _TITLES.items():
            fitting = every if column == "minutes" else parts
            if column not in columns and fitting & set(names):
                columns[column] = _Column(place, every)
                break
    if "hours" in columns:
        # How long a day says it all; how often stays unused, and is named so.
        columns.pop("often", None)
    return columns


def _guessed(lines: Sequence[Sequence[str]]) -> dict[str, _Column]:
    """Columns of a table without titles."""
    width = max(len(line) for line in lines)
    numeric = [
        place
        for place in range(1, width)
        if any(re.match(r"[\d.,]", line[place]) for line in lines if len(line) > place)
    ]
    places = {"name": 0, **dict(zip(("watts", "hours"), numeric, strict=False))}
    return {column: _Column(place) for column, place in places.items()}


def _loads_of(line: Sequence[str], columns: Mapping[str, _Column]) -> list[TableRow]:
    """The loads of one line: several where it says how many."""
    cells = {
        name: line[column.place] if column.place < len(line) else ""
        for name, column in columns.items()
    }
    name = cells["name"]
    if not name and not cells.get("watts"):
        return []
    count = _whole(cells.get("count", ""))
    if count > MOST_ALIKE:
        words = f"has {count} of {name}: give them as one load, with the watts of all"
        raise DocumentError("table", words)
    row = TableRow(
        name=name,
        watts=_in_watts(cells.get("watts", ""), "kw" in columns.get("watts", _Column(0)).words),
        often=_often(cells, columns),
        note=cells.get("note", ""),
        appliance=appliance_named(name),
    )
    names = [name, *(f"{name} {number}" for number in range(2, count + 1))]
    return [TableRow(other, row.watts, row.often, row.note, row.appliance) for other in names]


def _whole(text: str) -> int:
    found = re.fullmatch(r"(\d{1,4})(?:[.,]0+)?\s*(?:x|×|pcs)?", text.strip(), re.IGNORECASE)
    return int(found[1]) if found else 1


def _in_watts(text: str, kilo: bool) -> str:
    """Watts as written, without a thousands separator that spreadsheets write: ``1,500``.

    A bare number is in the unit of the column's title: ``kilo`` is whether that is kW.
    """
    plain = re.sub(r"(?<=\d)[ \u00a0\u202f](?=\d{3}\b)", "", text)
    return f"{plain} kW" if kilo and _NUMBER.fullmatch(plain) else plain


def _often(cells: Mapping[str, str], columns: Mapping[str, _Column]) -> str:
    """Use in the words of :mod:`needle.usage.usual_use`, from what is written of it."""
    hours, minutes, often = (cells.get(name, "") for name in ("hours", "minutes", "often"))
    if hours:
        return _hours(hours, columns["hours"].period)
    if re.fullmatch(r"0+", often):
        return ""
    if _NUMBER.fullmatch(often):
        often = f"{often} times a {columns['often'].period}"
    if not minutes or not _NUMBER.fullmatch(minutes):
        return ", ".join(filter(None, (often, minutes)))
    value = float(minutes.replace(",", "."))
    often = often or f"once a {columns['minutes'].period}"
    return f"{often}, {value:g} minutes" if value else ""


def _hours(text: str, period: str) -> str:
    """Hours in a day, week or month, as hours a day; words as they are."""
    if not _NUMBER.fullmatch(text):
        return text
    value = float(text.replace(",", ".")) / {"day": 1, "week": 7, "month": 30}[period]
    return "all the time" if value == 24 else f"{value:.4g} hours a day" if value else ""
