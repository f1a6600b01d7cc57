"""Prints what ``make check`` tells about the readability of the code.

Each line is one measure with its limit, if it has one; the command fails where a limit is broken.
"""

from __future__ import annotations

import ast
import re
import sys
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
CODE = ("needle", "web", "tools")
#: Words of this project's old dialect that say less than the field's own (see CONTRIBUTING.md).
DIALECT = re.compile(
    r"\b(told|foretold|foretells?|steadies|steadier|steadiest|odds|hangs? on|comes? to|came to"
    r"|so many|so much|sightings?|nought|what (?:is|was) (?:asked|seen|told|said|drawn)|asks of"
    r"|proofs?|of late|besides that|stands? (?:there|in)|for want of)\b",
    re.IGNORECASE,
)
_DECISIONS = (ast.If, ast.IfExp, ast.For, ast.While, ast.ExceptHandler, ast.Assert, ast.match_case)
DUPLICATE_LINES = 6
COMPLEX = 10
LONG_FUNCTION_LINES = 50


@dataclass(frozen=True)
class Measure:
    """One printed figure; ``most`` is the limit above which the check fails."""

    name: str
    value: float
    most: float | None = None
    unit: str = ""

    def __str__(self) -> str:
        limit = "" if self.most is None else f" (at most {self.most:g}{self.unit})"
        return f"{self.name:<46} {self.value:g}{self.unit}{limit}"


def python_files(folders: tuple[str, ...] = CODE) -> list[Path]:
    """Python files of the project, without migrations."""
    return sorted(
        path
        for folder in folders
        for path in (ROOT / folder).rglob("*.py")
        if "migrations" not in path.parts
    )


def functions_of(path: Path) -> Iterator[ast.FunctionDef | ast.AsyncFunctionDef]:
    """Every function and method that a file defines."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            yield node


def docstrings_of(path: Path) -> Iterator[str]:
    """Every docstring of a file."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef):
            yield ast.get_docstring(node) or ""


def complexity(function: ast.AST) -> int:
    """Paths through a function: decisions, comprehensions and boolean operators, plus one.

    T. McCabe 1976, IEEE Trans. Softw. Eng. SE-2, 308, counted with each operand of and/or and each
    comprehension; a nested function counts for itself.
    """
    paths = 1
    for node in _own_nodes(function):
        if isinstance(node, ast.BoolOp):
            paths += len(node.values) - 1
        elif isinstance(node, ast.comprehension):
            paths += 1 + len(node.ifs)
        elif isinstance(node, _DECISIONS):
            paths += 1
    return paths


def _own_nodes(function: ast.AST) -> Iterator[ast.AST]:
    for node in ast.iter_child_nodes(function):
        if not isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            yield node
            yield from _own_nodes(node)


def repeated_lines(paths: list[Path]) -> int:
    """How many windows of six code lines occur in more than one place."""
    places: dict[tuple[str, ...], int] = defaultdict(int)
    for path in paths:
        lines = [line.strip() for line in path.read_text().splitlines()]
        lines = [
            line for line in lines if len(line) > 1 and not line.startswith(("import", "from"))
        ]
        for first in range(len(lines) - DUPLICATE_LINES + 1):
            places[tuple(lines[first : first + DUPLICATE_LINES])] += 1
    return sum(count - 1 for count in places.values() if count > 1)


def dialect_words(paths: list[Path]) -> int:
    """How often the old dialect occurs in docstrings and templates."""
    texts = [text for path in paths for text in docstrings_of(path)]
    pages = (ROOT / "web" / "templates").rglob("*.html")
    texts += [re.sub(r"\{[{%#].*?[}%#]\}|<[^>]*>", " ", page.read_text()) for page in pages]
    return sum(len(DIALECT.findall(text)) for text in texts)


def shipped_kb(pattern: str) -> float:
    """Size of the site's own and vendored files of one kind, kB."""
    files = (ROOT / "web" / "static").rglob(pattern)
    return round(sum(path.stat().st_size for path in files) / 1000)


def measures() -> list[Measure]:
    """All measures of the working tree."""
    code, everything = python_files(), python_files((*CODE, "tests"))
    functions = [function for path in code for function in functions_of(path)]
    lengths = [(node.end_lineno or node.lineno) - node.lineno + 1 for node in functions]
    lines = [line for path in everything for line in path.read_text().splitlines()]
    complex_share = sum(complexity(node) > COMPLEX for node in functions) / len(functions)
    skip = "fmt: " + "skip"
    return [
        Measure("functions", len(functions)),
        Measure("complexity above 10", round(100 * complex_share, 1), 3, " %"),
        Measure("functions over 50 lines", sum(n > LONG_FUNCTION_LINES for n in lengths)),
        Measure("lines over 100 characters", sum(len(line) > 100 for line in lines), 0),
        Measure("lines that the formatter skips", sum(skip in line for line in lines), 0),
        Measure("repeated windows of six lines", repeated_lines(code)),
        Measure("words of the dialect", dialect_words(code)),
        Measure("styles shipped", shipped_kb("*.css"), None, " kB"),
        Measure("scripts shipped", shipped_kb("*.js"), None, " kB"),
        Measure(
            "tests, share of all code", round(100 * _share_of_tests(code, everything)), None, " %"
        ),
    ]


def _share_of_tests(code: list[Path], everything: list[Path]) -> float:
    count = [
        sum(len(path.read_text().splitlines()) for path in paths) for paths in (code, everything)
    ]
    return 1 - count[0] / count[1]


def print_long_and_complex() -> None:
    """List functions that are too complex or too long, with both figures."""
    for path in python_files():
        for node in functions_of(path):
            paths, lines = complexity(node), (node.end_lineno or node.lineno) - node.lineno + 1
            if paths > COMPLEX or lines > LONG_FUNCTION_LINES:
                place = f"{path.relative_to(ROOT)}:{node.lineno}"
                print(f"{paths:>3} paths {lines:>4} lines  {place} {node.name}")


def main() -> int:
    """Print the measures; 1 where one is above its limit.

    With ``--list`` also the functions above the limits.
    """
    if "--list" in sys.argv:
        print_long_and_complex()
    found = measures()
    for measure in found:
        print(measure)
    return int(any(m.most is not None and m.value > m.most for m in found))


if __name__ == "__main__":
    sys.exit(main())
