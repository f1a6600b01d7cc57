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
    "watts": ("watts", "watt", "power", "wattage", "label", "rating", "rated", "w"),
    "hours": ("hours", "hour", "h", "h/day", "time", "daily", "use"),
    "minutes": ("minutes", "minute", "min", "mins"),
    "count": ("count", "quantity", "qty", "number", "how many", "pieces", "pcs", "no", "#"),
    "note": ("note", "notes", "remark", "remarks", "comment", "comments", "room", "place", "where"),
}
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
        used = set(titles.values())
        unused = [title for place, title in enumerate(lines[0]) if title and place not in used]
        return LoadTable(_rows_of(lines[1:], titles), tuple(unused))
    return LoadTable(_rows_of(lines, _guessed(lines)))


def _rows_of(lines: Sequence[Sequence[str]], columns: Mapping[str, int]) -> tuple[TableRow, ...]:
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


def _columns(titles: Sequence[str]) -> dict[str, int]:
    """Place of each column that its title names."""
    places: dict[str, int] = {}
    for place, title in enumerate(titles):
        words = re.sub(r"[\[(].*?[\])]", " ", title.casefold()).strip(" :.")
        parts = {words, *re.split(r"[\s,_/-]+", words)}
        for column, names in _TITLES.items():
            if column not in places and parts & set(names):
                places[column] = place
                break
    return places


def _guessed(lines: Sequence[Sequence[str]]) -> dict[str, int]:
    """Columns of a table without titles."""
    width = max(len(line) for line in lines)
    numeric = [
        place
        for place in range(1, width)
        if any(re.match(r"[\d.,]", line[place]) for line in lines if len(line) > place)
    ]
    return {"name": 0, **dict(zip(("watts", "hours"), numeric, strict=False))}


def _loads_of(line: Sequence[str], columns: Mapping[str, int]) -> list[TableRow]:
    """The loads of one line: several where it says how many."""
    cells = {column: line[place] if place < len(line) else "" for column, place in columns.items()}
    name = cells["name"]
    if not name and not cells.get("watts"):
        return []
    count = _whole(cells.get("count", ""))
    if count > MOST_ALIKE:
        words = f"has {count} of {name}: give them as one load, with the watts of all"
        raise DocumentError("table", words)
    row = TableRow(
        name=name,
        watts=_in_watts(cells.get("watts", "")),
        often=_often(cells.get("hours", ""), cells.get("minutes", "")),
        note=cells.get("note", ""),
        appliance=appliance_named(name),
    )
    names = [name, *(f"{name} {number}" for number in range(2, count + 1))]
    return [TableRow(other, row.watts, row.often, row.note, row.appliance) for other in names]


def _whole(text: str) -> int:
    found = re.fullmatch(r"(\d{1,4})(?:[.,]0+)?\s*(?:x|×|pcs)?", text.strip(), re.IGNORECASE)
    return int(found[1]) if found else 1


def _in_watts(text: str) -> str:
    """Watts as written, without a thousands separator that spreadsheets write: ``1,500``."""
    return re.sub(r"(?<=\d)[ \u00a0\u202f](?=\d{3}\b)", "", text)


def _often(hours: str, minutes: str) -> str:
    """Use in the words of :mod:`needle.usage.usual_use`, from hours or minutes a day."""
    if re.fullmatch(r"\d+(?:[.,]\d+)?", hours):
        value = float(hours.replace(",", "."))
        return "all the time" if value == 24 else f"{value:g} hours a day" if value else ""
    if hours:
        return hours
    if re.fullmatch(r"\d+(?:[.,]\d+)?", minutes):
        value = float(minutes.replace(",", "."))
        return f"once a day, {value:g} minutes" if value else ""
    return minutes
