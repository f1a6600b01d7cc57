"""``make docs``: API pages of the core, from its docstrings, in ``build/api/``."""

from __future__ import annotations

from pathlib import Path

OUT = Path(__file__).resolve().parent.parent / "build" / "api"


def main() -> None:
    """Write the pages; needs no network."""
    import pdoc

    pdoc.render.configure(docformat="numpy")
    pdoc.pdoc("needle", output_directory=OUT)
    print(f"{OUT}/index.html")


if __name__ == "__main__":
    main()
