"""A small builder of SVG: elements from numbers, with every text and attribute escaped."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from xml.sax.saxutils import escape, quoteattr

from django.utils.safestring import SafeString, mark_safe

Number = float | int
Attribute = Number | str


class Svg:
    """A drawing with a title and a description as its text alternative.

    Parameters
    ----------
    width, height : number
        Size in the drawing's own coordinates; the page scales it by its class.
    title, description : str
        Text alternative.
    css : str
        Classes of the svg element.
    role : str
        ``"img"``, or ``"group"`` if parts of it can be selected.
    """

    def __init__(
        self,
        width: Number,
        height: Number,
        title: str,
        description: str = "",
        css: str = "",
        role: str = "img",
    ) -> None:
        label = quoteattr(f"{title}. {description}".strip())
        wide, tall = _text(width), _text(height)
        self._parts = [
            f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {wide} {tall}" width="{wide}" '
            f'height="{tall}" class={quoteattr(css)} role="{role}" aria-label={label}>'
            f"<title>{escape(title)}</title>"
        ]

    def add(self, tag: str, text: str | None = None, **attributes: Attribute) -> None:
        """Append an element; ``css`` is its class, underscores become hyphens."""
        end = "/>" if text is None else f">{escape(text)}</{tag}>"
        self._parts.append(f"<{tag}{_written(attributes)}{end}")

    @contextmanager
    def inside(self, tag: str, **attributes: Attribute) -> Iterator[None]:
        """Context in which elements are added inside one of this tag."""
        self._parts.append(f"<{tag}{_written(attributes)}>")
        yield
        self._parts.append(f"</{tag}>")

    def clip(self, name: str, x: Number, y: Number, width: Number, height: Number) -> str:
        """Define a clipping rectangle; return the attribute's value."""
        with self.inside("clipPath", id=name):
            self.rect(x, y, width, height, "")
        return f"url(#{name})"

    def line(self, x1: Number, y1: Number, x2: Number, y2: Number, css: str) -> None:
        self.add("line", x1=x1, y1=y1, x2=x2, y2=y2, css=css)

    def rect(self, x: Number, y: Number, width: Number, height: Number, css: str) -> None:
        self.add("rect", x=x, y=y, width=max(0.0, width), height=max(0.0, height), css=css)

    def words(self, x: Number, y: Number, text: str, css: str = "", anchor: str = "start") -> None:
        self.add("text", text, x=x, y=y, css=css, text_anchor=anchor)

    def path(self, points: list[tuple[float, float]], css: str, closed: bool = False) -> None:
        """A polyline through points."""
        steps = " L".join(f"{x:.1f} {y:.1f}" for x, y in points)
        self.add("path", d=f"M{steps}{' Z' if closed else ''}", css=css)

    def render(self) -> SafeString:
        """The markup; all text in it is escaped."""
        return mark_safe("".join(self._parts) + "</svg>")  # noqa: S308


def _written(attributes: dict[str, Attribute]) -> str:
    return "".join(
        f" {'class' if key == 'css' else key.replace('_', '-')}={_quoted(value)}"
        for key, value in attributes.items()
    )


def _text(value: Number) -> str:
    return f"{value:.2f}".rstrip("0").rstrip(".") if isinstance(value, float) else str(value)


def _quoted(value: Attribute) -> str:
    return _quoted_text(value) if isinstance(value, str) else f'"{_text(value)}"'


#: A drawing writes the same few classes again and again.
_quoted_text = lru_cache(maxsize=1024)(quoteattr)
