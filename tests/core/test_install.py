"""The project installs as a package, with everything the site needs in it."""

import shutil
import subprocess
import sys
import tempfile
import tomllib
import unittest
import zipfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent.parent
BUILD = "import sys; from setuptools.build_meta import build_wheel; print(build_wheel(sys.argv[1]))"


class WheelTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        source = folder / "source"
        ignored = shutil.ignore_patterns("__pycache__")
        for name in ("needle", "web", "requirements"):
            shutil.copytree(ROOT / name, source / name, ignore=ignored)
        for name in ("pyproject.toml", "README.md"):
            shutil.copy(ROOT / name, source / name)
        command = [sys.executable, "-c", BUILD, str(folder)]
        subprocess.run(command, cwd=source, check=True, capture_output=True)
        (wheel,) = folder.glob("*.whl")
        with zipfile.ZipFile(wheel) as opened:
            cls.names = set(opened.namelist())
            (metadata,) = (name for name in cls.names if name.endswith("entry_points.txt"))
            cls.commands = opened.read(metadata).decode()

    def test_all_code_templates_and_static_files_are_in_it(self):
        wanted = {
            str(path.relative_to(ROOT))
            for folder in ("needle", "web")
            for path in (ROOT / folder).rglob("*")
            if path.is_file() and "__pycache__" not in path.parts
        }
        self.assertEqual(wanted - self.names, set())

    def test_tests_and_tools_are_not(self):
        self.assertFalse([name for name in self.names if name.startswith(("tests", "tools"))])

    def test_both_commands(self):
        self.assertIn("needle = needle.__main__:main", self.commands)
        self.assertIn("steady-needle = web.begin:main", self.commands)


class VersionTest(unittest.TestCase):
    def test_the_changelog_begins_with_the_version(self):
        version = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["version"]
        headings = [
            line for line in (ROOT / "CHANGELOG.md").read_text().splitlines() if line[:3] == "## "
        ]
        self.assertTrue(headings[0].startswith(f"## {version}"), headings[0])
