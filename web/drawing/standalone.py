"""A drawing that stands by itself: with the site's styles inside, for other programs."""

from __future__ import annotations

import re
from functools import lru_cache
from pathlib import Path
from xml.sax.saxutils import escape

_CSS = Path(__file__).resolve().parent.parent / "static" / "css" / "needle.css"


@lru_cache(maxsize=1)
def _styles() -> str:
    """The light colours and every rule that a drawing could use; no fonts, no media rules."""
    text = _CSS.read_text(encoding="utf-8")
    roles = re.search(r":root, \[data-theme=\"light\"\] \{(.*?)\}", text, re.S)
    assert roles is not None
    values = dict(re.findall(r"(--[\w-]+):\s*([^;]+);", roles[1]))
    plain = re.sub(r"/\*.*?\*/", "", re.split(r"@media \(max-width", text)[0], flags=re.S)
    rules = re.findall(r"([.\w][^{}@]*)\{([^{}]*(?:fill|stroke)[^{}]*)\}", plain)
    css = "".join(f"{selector.strip()}{{{body.strip()}}}" for selector, body in rules)
    for name, value in values.items():
        css = css.replace(f"var({name})", value.strip())
    return f"text{{font-family:sans-serif}}{css}"


def standalone(svg: str) -> str:
    """The drawing with its styles, and the markup that a file of its own needs."""
    head, rest = svg.split(">", 1)
    return (
        f'<?xml version="1.0" encoding="UTF-8"?>\n{head}><style>{escape(_styles())}</style>{rest}'
    )
