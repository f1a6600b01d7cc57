"""Each example of docs/api.md is run, in order, and gives what stands below it."""

from __future__ import annotations

import argparse
import contextlib
import io
import json
import re
import shlex
import tempfile
from pathlib import Path
from urllib.error import HTTPError
from urllib.request import Request, urlopen

from django.contrib.auth import get_user_model
from django.test import LiveServerTestCase

from needle.__main__ import main
from tests.few_draws import FewDraws
from tests.web.base import make_job, make_load, make_supply
from tests.web.test_api import CSV
from web.api.actions import add_token
from web.api.models import ApiToken
from web.trials.models import Trial

PAGE = Path(__file__).parents[2] / "docs" / "api.md"
#: The part of curl that the examples use.
CURL = argparse.ArgumentParser()
CURL.add_argument("-X", dest="method")
CURL.add_argument("-H", dest="headers", action="append", default=[])
CURL.add_argument("-d", dest="data")
CURL.add_argument("--data-binary", dest="file")
CURL.add_argument("url")


class ExamplesTest(FewDraws, LiveServerTestCase):
    def setUp(self):
        super().setUp()
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.job = make_job(get_user_model().objects.create_user("owner"), "Hill house")
        make_load(self.job, "Fridge", 120.0)
        make_load(self.job, "Lamp", 40.0, kind="led")
        supply = make_supply(self.job)
        Trial.objects.create(job=self.job, name="Run", supply=supply, believed=supply.to_document())
        _, self.token = add_token(ApiToken(job=self.job, name="Script", adds=True))
        (self.folder / "token.txt").write_text(f"{self.token}\n")
        (self.folder / "fridge.csv").write_text(CSV)

    def words(self, command):
        """A command's words, with the numbers that this job's records have."""
        command = command.replace("$SITE", self.live_server_url).replace("$TOKEN", self.token)
        for name in ("loads", "trials"):
            first = getattr(self.job, name).order_by("pk").first().pk
            command = command.replace(f"/{name}/1/", f"/{name}/{first}/")
            verb = {"loads": "profile", "trials": "forecast"}[name]
            command = command.replace(f"needle {verb} 1 ", f"needle {verb} {first} ")
        return shlex.split(command.replace("\\\n", " "))

    def curl(self, words):
        asked = CURL.parse_args(words)
        body = asked.data.encode() if asked.data else None
        if asked.file:
            body = (self.folder / asked.file.removeprefix("@")).read_bytes()
        headers = dict(header.split(": ", 1) for header in asked.headers)
        request = Request(asked.url, body, headers, method=asked.method)
        try:
            with urlopen(request) as response:
                return json.load(response)
        except HTTPError as error:
            return json.load(error)

    def needle(self, words):
        told = io.StringIO()
        words = [str(self.folder / word) if word == "token.txt" else word for word in words]
        with contextlib.redirect_stdout(told):
            self.assertEqual(main(words), 0, words)
        return json.loads(told.getvalue())

    def includes(self, told, shown, path=""):
        """What is shown in the page is in what was told; numbers of records are one's own."""
        if isinstance(shown, dict):
            for key, value in shown.items():
                self.assertIn(key, told, path)
                if key not in ("id", "load"):
                    self.includes(told[key], value, f"{path}.{key}")
        elif isinstance(shown, list):
            for number, value in enumerate(shown):
                self.includes(told[number], value, f"{path}[{number}]")
        else:
            self.assertEqual(told, shown, path)

    def test_each_example_gives_what_is_shown(self):
        blocks = re.findall(r"```(sh|json)\n(.*?)```", PAGE.read_text(), re.DOTALL)
        told, compared, commands = None, 0, 0
        for kind, text in blocks:
            if kind == "json":
                with self.subTest(shown=text[:60]):
                    self.includes(told, json.loads(text))
                compared += 1
                continue
            for line in re.split(r"(?<!\\)\n", text.strip()):
                program, *words = self.words(line)
                commands += 1
                told = self.curl(words) if program == "curl" else self.needle(words)
        self.assertEqual((compared, commands), (7, 10))
