"""The sheet as a PDF, readable in black and white."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from pathlib import Path

from fpdf import FPDF
from fpdf.enums import TableBordersLayout
from fpdf.fonts import FontFace

from needle.moments import moment_after
from needle.plan.energy.simulate import Outcome
from web.common.units import day_clock
from web.sheets.sheet import Sheet, SheetPhoto, Table

_FONTS = Path(__file__).parent / "fonts"
#: Columns that need less are never narrower than their words, mm.
_SHORT_MM = 18.0
#: Inside a cell on each side, mm; and from how many columns on the type is smaller.
_PADDING_MM, _MANY_COLUMNS = 0.7, 8
#: Scale of type that is still read without glasses.
_SMALLER = 0.85
_GREY, _RULE, _BAND = (95, 95, 95), 150, (220, 220, 220)


class _Pages(FPDF):
    """Pages with the sheet's title and page number in the footer; ``scale`` reduces the type."""

    def __init__(self, paper: str, title: str, scale: float) -> None:
        self.scale = scale
        super().__init__(format=paper)
        self.running_title = title
        for style, weight in (("", 400), ("B", 700)):
            self.add_font("B612", style, str(_FONTS / f"b612-{weight}.ttf"))
        self.set_margins(16, 14, 16)
        self.set_auto_page_break(True, 18)
        self.set_title(title)
        self.set_creator("Steady Needle")
        self.set_lang("en")
        self.alias_nb_pages()

    def type(self, style: str, points: float) -> None:
        """Set the font, at the pages' scale."""
        self.set_font("B612", style, points * self.scale)

    def footer(self) -> None:
        self.set_y(-13)
        self.set_font("B612", "", 7.5)
        self.set_text_color(*_GREY)
        self.cell(0, 5, self.running_title)
        self.cell(0, 5, f"{self.page_no()} of {{nb}}", align="R")


def as_pdf(sheet: Sheet, paper: str = "A4") -> bytes:
    """Render the sheet, slightly smaller if it then fits on one page."""
    pdf = _printed(sheet, paper, 1.0)
    if pdf.page_no() == 2 and not sheet.photos:
        smaller = _printed(sheet, paper, _SMALLER)
        pdf = smaller if smaller.page_no() == 1 else pdf
    return bytes(pdf.output())


def _printed(sheet: Sheet, paper: str, scale: float) -> _Pages:
    pdf = _Pages(paper, sheet.title, scale)
    pdf.add_page()
    pdf.type("B", 15)
    pdf.multi_cell(0, 7 * scale, sheet.title, new_x="LMARGIN", new_y="NEXT")
    _words(pdf, sheet.made, grey=True)
    _words(pdf, "; ".join(f"{name}: {value}" for name, value in sheet.facts))
    pdf.ln(2)
    pdf.type("B", 12)
    for words in filter(None, (sheet.headline, sheet.first)):
        pdf.multi_cell(0, 6 * scale, _plain(words), align="L", new_x="LMARGIN", new_y="NEXT")
    if sheet.life:
        pdf.type("B", 9)
        words = f"Caution: {_plain(sheet.life)}"
        pdf.multi_cell(0, 5 * scale, words, align="L", new_x="LMARGIN", new_y="NEXT")
    for line in sheet.lines:
        pdf.type("B", 8.5)
        pdf.cell(28, 4.4 * scale, line.label)
        _words(pdf, line.sentence)
    _words(pdf, sheet.detail)
    if sheet.outcome is not None:
        _curve(pdf, sheet.outcome)
    for table in sheet.tables:
        _table(pdf, table)
    _list(pdf, "Still uncertain", sheet.unproven)
    _list(pdf, "Cautions", sheet.cautions)
    _photos(pdf, sheet.photos)
    return pdf


def _photos(pdf: _Pages, photos: Sequence[SheetPhoto]) -> None:
    """The annex: two photos per row, each with its reading."""
    if not photos:
        return
    pdf.add_page()
    pdf.set_font("B612", "B", 12)
    pdf.multi_cell(0, 6, "Photos", new_x="LMARGIN", new_y="NEXT")
    width, gap = (pdf.epw - 6) / 2, 6.0
    for first in range(0, len(photos), 2):
        row = photos[first : first + 2]
        tall = max(width * item.photo.height / item.photo.width for item in row)
        tall = min(tall, 110.0)
        if pdf.get_y() + tall + 14 > pdf.page_break_trigger:
            pdf.add_page()
        top, bottom = pdf.get_y() + 2, 0.0
        for place, item in enumerate(row):
            left = pdf.l_margin + place * (width + gap)
            pdf.image(
                BytesIO(bytes(item.photo.large)),
                left,
                top,
                width,
                tall,
                keep_aspect_ratio=True,
                alt_text=item.words,
            )
            pdf.set_xy(left, top + tall + 1)
            pdf.set_font("B612", "", 7.5)
            pdf.multi_cell(width, 3.8, _plain(item.words), align="L")
            bottom = max(bottom, pdf.get_y())
        pdf.set_xy(pdf.l_margin, bottom)


def _words(pdf: _Pages, text: str, grey: bool = False) -> None:
    pdf.type("", 8.5)
    pdf.set_text_color(*(_GREY if grey else (0, 0, 0)))
    pdf.multi_cell(0, 4.4 * pdf.scale, _plain(text), align="L", new_x="LMARGIN", new_y="NEXT")
    pdf.set_text_color(0)


def _plain(text: str) -> str:
    """Text with spaces that the fonts have."""
    return text.replace("\u202f", "\u00a0").replace("→", "to")


def _head(pdf: _Pages, text: str) -> None:
    pdf.ln(3 * pdf.scale)
    if pdf.get_y() > pdf.h - 45 * pdf.scale:
        pdf.add_page()
    pdf.type("B", 10)
    pdf.cell(0, 6 * pdf.scale, text, new_x="LMARGIN", new_y="NEXT")


def _list(pdf: _Pages, title: str, words: list[str]) -> None:
    if words:
        _head(pdf, title)
        for word in words:
            _words(pdf, f"– {word}")


def _table(pdf: _Pages, table: Table) -> None:
    _head(pdf, table.title)
    points = 6.8 if len(table.heads) > _MANY_COLUMNS else 7.5
    pdf.type("", points)
    pdf.set_draw_color(_RULE)
    aligns = ["RIGHT" if n in table.figures else "LEFT" for n in range(len(table.heads))]
    with pdf.table(
        borders_layout=TableBordersLayout.HORIZONTAL_LINES,
        headings_style=FontFace(emphasis="BOLD", size_pt=points * pdf.scale),
        col_widths=_widths(pdf, table),
        text_align=tuple(aligns),
        line_height=3.8 * pdf.scale,
        padding=_PADDING_MM * pdf.scale,
    ) as drawn:
        for row in [table.heads, *table.rows]:
            cells = drawn.row()
            for text in row:
                cells.cell(_plain(text))


def _widths(pdf: _Pages, table: Table) -> tuple[float, ...]:
    """Widths of a table's columns, mm: figures never wrap, words share what is left."""
    # A cell keeps its padding and the page's own margin on either side of its text.
    beside = 2 * (_PADDING_MM * pdf.scale + pdf.c_margin) + 0.4
    columns = [[head, *(row[n] for row in table.rows)] for n, head in enumerate(table.heads)]
    needed = [
        beside + 1.02 * max(pdf.get_string_width(_plain(cell)) for cell in cells)
        for cells in columns
    ]
    words = [n for n in range(len(columns)) if n not in table.figures and needed[n] > _SHORT_MM]
    free = pdf.epw - sum(needed[n] for n in range(len(columns)) if n not in words)
    asked = sum(needed[n] for n in words) or 1.0
    if free < _SHORT_MM * len(words):
        return tuple(needed)
    return tuple(needed[n] * free / asked if n in words else needed[n] for n in range(len(columns)))


def _curve(pdf: _Pages, outcome: Outcome) -> None:
    """Charge with its band, floor, needed hours and ticks, in grey."""
    plan = outcome.plan
    left, top, wide, tall = pdf.l_margin + 10, pdf.get_y() + 5, pdf.epw - 14, 34.0 * pdf.scale
    hours = outcome.curve_h
    most = min(float(hours[-1]), max(plan.needed_hours, outcome.runtime[2]) * 1.08)

    def x(hour: float) -> float:
        return left + wide * min(1.0, hour / most)

    def y(share: float) -> float:
        return top + tall * (1 - share)

    low, mid, high = outcome.charge
    shown = [index for index, hour in enumerate(hours) if hour <= most]
    pdf.set_line_width(0.15)
    pdf.set_draw_color(_RULE)
    pdf.set_font("B612", "", 6.5)
    for share in (0.0, 0.5, 1.0):
        pdf.line(left, y(share), left + wide, y(share))
        pdf.text(left - 9, y(share) + 1, f"{share * 100:.0f} %")
    step = max(1, round(most / 8))
    for hour in range(0, int(most) + 1, step):
        pdf.line(x(hour), top, x(hour), y(0))
        pdf.text(x(hour) - 3, y(0) + 3.2, _plain(day_clock(moment_after(plan.start, hour))))
    band = [(x(hours[i]), y(high[i])) for i in shown] + [
        (x(hours[i]), y(low[i])) for i in reversed(shown)
    ]
    pdf.set_fill_color(*_BAND)
    pdf.polygon(band, style="F")
    pdf.set_fill_color(255)
    pdf.set_draw_color(0)
    pdf.set_line_width(0.5)
    pdf.polyline([(x(hours[i]), y(mid[i])) for i in shown])
    pdf.set_line_width(0.2)
    pdf.set_dash_pattern(1.2, 0.8)
    pdf.line(left, y(plan.supply.battery.floor), left + wide, y(plan.supply.battery.floor))
    pdf.line(x(plan.needed_hours), top - 2, x(plan.needed_hours), y(0))
    pdf.set_dash_pattern()
    pdf.text(
        left + 1,
        y(plan.supply.battery.floor) - 0.8,
        f"floor {plan.supply.battery.floor * 100:.0f} %",
    )
    pdf.text(x(plan.needed_hours) - 15, top - 2.6, "needed until here")
    pdf.set_y(top + tall + 5)
