"""A drawing as a file of its own, with the site's styles included."""

from __future__ import annotations

import re
from functools import lru_cache
from pathlib import Path
from xml.sax.saxutils import escape

_CSS = Path(__file__).resolve().parent.parent / "static" / "css"
_LIGHT_DARK = re.compile(r"light-dark\(\s*(#\w+|rgb\([^)]*\))\s*,\s*(?:#\w+|rgb\([^)]*\))\s*\)")


@lru_cache(maxsize=1)
def _styles() -> str:
    """Rules that draw something, in light colours; without media queries."""
    roles = _LIGHT_DARK.sub(r"\1", (_CSS / "roles.css").read_text(encoding="utf-8"))
    colours = dict(re.findall(r"(--[\w-]+):\s*([^;]+);", roles))
    parts = [path for path in sorted(_CSS.glob("*.css")) if path.stem not in ("roles", "screens")]
    text = "\n".join(path.read_text(encoding="utf-8") for path in parts)
    plain = re.sub(r"/\*.*?\*/", "", text, flags=re.S)
    rules = re.findall(r"([.\w][^{}@]*)\{([^{}]*(?:fill|stroke)[^{}]*)\}", plain)
    css = "".join(f"{selector.strip()}{{{body.strip()}}}" for selector, body in rules)
    css = re.sub(r"\s+", " ", css)
    for name, value in colours.items():
        css = css.replace(f"var({name})", value)
    return f"text{{font-family:sans-serif}}{css}"


def standalone(svg: str) -> str:
    """The drawing with its styles and an XML header."""
    head, rest = svg.split(">", 1)
    return (
        f'<?xml version="1.0" encoding="UTF-8"?>\n{head}><style>{escape(_styles())}</style>{rest}'
    )
