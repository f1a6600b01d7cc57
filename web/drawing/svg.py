"""A small builder of SVG: elements from numbers, escaped by the standard library's own writer."""

from __future__ import annotations

from xml.etree import ElementTree

from django.utils.safestring import SafeString, mark_safe

Number = float | int
Attribute = Number | str


class Svg:
    """One drawing with a title and a description for those who do not see it.

    Parameters
    ----------
    width, height : number
        Of the drawing's own coordinates; the page scales it by its class.
    title, description : str
        Read out in place of the picture.
    css : str
        Classes of the svg element.
    """

    def __init__(
        self, width: Number, height: Number, title: str, description: str = "", css: str = ""
    ) -> None:
        self.root = ElementTree.Element(
            "svg",
            {
                "viewBox": f"0 0 {_text(width)} {_text(height)}",
                "width": _text(width),
                "height": _text(height),
                "class": css,
                "role": "img",
                "aria-label": f"{title}. {description}".strip(),
                "xmlns": "http://www.w3.org/2000/svg",
            },
        )
        ElementTree.SubElement(self.root, "title").text = title
        self._at = self.root

    def add(self, tag: str, text: str | None = None, **attributes: Attribute) -> None:
        """Append an element; ``css`` is its class, underscores become hyphens."""
        element = ElementTree.SubElement(self._at, tag, _attributes(attributes))
        element.text = text

    def line(self, x1: Number, y1: Number, x2: Number, y2: Number, css: str) -> None:
        self.add("line", x1=x1, y1=y1, x2=x2, y2=y2, css=css)

    def rect(self, x: Number, y: Number, width: Number, height: Number, css: str) -> None:
        self.add("rect", x=x, y=y, width=max(0.0, width), height=max(0.0, height), css=css)

    def words(self, x: Number, y: Number, text: str, css: str = "", anchor: str = "start") -> None:
        self.add("text", text, x=x, y=y, css=css, text_anchor=anchor)

    def path(self, points: list[tuple[float, float]], css: str, closed: bool = False) -> None:
        """A polyline through points."""
        steps = " ".join(
            f"{'M' if not i else 'L'}{x:.1f} {y:.1f}" for i, (x, y) in enumerate(points)
        )
        self.add("path", d=steps + (" Z" if closed else ""), css=css)

    def render(self) -> SafeString:
        """The markup; everything in it was escaped by ElementTree."""
        return mark_safe(ElementTree.tostring(self.root, encoding="unicode"))  # noqa: S308


def _attributes(given: dict[str, Attribute]) -> dict[str, str]:
    return {
        "class" if key == "css" else key.replace("_", "-"): _text(value)
        for key, value in given.items()
    }


def _text(value: Attribute) -> str:
    return f"{value:.2f}".rstrip("0").rstrip(".") if isinstance(value, float) else str(value)
