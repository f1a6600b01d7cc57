"""The recipes of ``docs/how_to_add.md`` are true: each is followed in a copy of the tree."""

import os
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.recipes.additions import RECIPES, all_insertions

ROOT = Path(__file__).parents[2]
PAGE = (ROOT / "docs" / "how_to_add.md").read_text("utf-8")


def sections():
    """The text of each recipe by its heading."""
    parts = re.split(r"^## … (.+)$", PAGE, flags=re.MULTILINE)
    return dict(zip(parts[1::2], parts[2::2], strict=True))


class RecipeTest(unittest.TestCase):
    def test_each_touches_only_what_its_recipe_names(self):
        told = sections()
        for heading, insertions in RECIPES.items():
            named = re.findall(r"`((?:needle|web)/[\w/.<>]+)`", told[heading])
            patterns = [re.sub(r"<\w+>", r"\\w+", name) for name in named]
            for file in {insertion.file for insertion in insertions}:
                with self.subTest(recipe=heading, file=file):
                    self.assertTrue(any(re.fullmatch(each, file) for each in patterns))

    def test_what_they_name_exists(self):
        for name in re.findall(r"`((?:needle|web|tests|tools|docs)/[\w/.]+)`", PAGE):
            with self.subTest(name=name):
                self.assertTrue((ROOT / name).exists())

    def test_what_they_add_is_there_for_its_users(self):
        with tempfile.TemporaryDirectory() as folder:
            tree = Path(folder)
            leave_out = shutil.ignore_patterns("__pycache__", "static", "browser", "core")
            for name in ("needle", "web", "tests"):
                shutil.copytree(ROOT / name, tree / name, ignore=leave_out)
            (tree / "web" / "static").symlink_to(ROOT / "web" / "static")
            for name in ("manage.py", "CHANGELOG.md"):
                shutil.copy(ROOT / name, tree / name)
            for insertion in all_insertions():
                insertion.make(tree)
            shutil.copy(tree / "tests" / "recipes" / "added.py", tree / "tests" / "test_added.py")
            run = subprocess.run(
                [sys.executable, "manage.py", "test", "--no-input", "tests.test_added"],
                cwd=tree,
                env={
                    **os.environ,
                    "DJANGO_SETTINGS_MODULE": "tests.settings",
                    "PYTHONPATH": "",
                    # Not the database of the run that this is part of.
                    "STEADY_DATABASE_URL": "",
                    "STEADY_FILES_URL": "",
                },
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual(run.returncode, 0, run.stderr[-3000:] + run.stdout[-1000:])
