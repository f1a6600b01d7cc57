"""People at work while parts of the site are killed, for Locust (``tools.scale`` runs it).

Each notes readings, some with a photo, and what the site acknowledged. They are signed in:
``STEADY_SCALE_SESSIONS`` is a file with keys of sessions that ``tools.scale`` made, several at each
account. ``STEADY_SCALE_NOTES`` is a file that gets a line of JSON for each request: when, by whom,
what, status, and the watts of a reading that was kept, with whether it has a photo.
"""

from __future__ import annotations

import itertools
import json
import os
import random
import re
import time
import uuid
from io import BytesIO
from pathlib import Path

from locust import HttpUser, between, task
from PIL import Image

_number = itertools.count(0)
_TOKEN = re.compile(r'name="csrfmiddlewaretoken" value="([^"]+)"')
_NOTES = Path(os.environ.get("STEADY_SCALE_NOTES", "/dev/null"))
_SESSIONS = Path(os.environ.get("STEADY_SCALE_SESSIONS", "/dev/null"))


def _photo() -> bytes:
    """A photo of many bytes."""
    content = BytesIO()
    Image.effect_noise((640, 480), 60).save(content, "JPEG")
    return content.getvalue()


_PHOTO = _photo()
#: Of so many readings one has a photo.
_WITH_PHOTO = 3


class Resident(HttpUser):
    """Somebody who looks, notes readings, and asks for answers."""

    wait_time = between(20, 60)

    def on_start(self) -> None:
        self.who = next(_number)
        address = f"10.2.{self.who // 250}.{self.who % 250 + 1}"
        self.client.headers["X-Forwarded-For"] = address
        keys = _SESSIONS.read_text().split()
        self.client.cookies["sessionid"] = keys[self.who % len(keys)]
        self.job = ""
        self.loads: list[str] = []
        # Not all at once.
        time.sleep(random.uniform(0, 40))

    def _begin(self) -> bool:
        """Find the job; whether that worked."""
        jobs = self._get("/jobs/", "jobs")
        found = re.findall(r"/jobs/(\d+)/survey/", jobs)
        if not found:
            return False
        survey = self._get(f"/jobs/{found[-1]}/survey/", "survey/")
        self.loads = sorted(set(re.findall(rf"/jobs/{found[-1]}/loads/(\d+)/", survey)))
        token = _TOKEN.search(survey)
        if not self.loads or token is None:
            return False
        self.job, self.token = found[-1], token[1]
        return True

    def _get(self, path: str, name: str) -> str:
        with self.client.get(path, name=name, catch_response=True) as response:
            self._note(name, response)
        return str(response.text or "")

    def _note(self, name: str, response: object, **kept: object) -> None:
        status = int(getattr(response, "status_code", 0) or 0)
        refused = status == 0 or status >= 500
        if refused:
            response.failure(f"status {status}")  # type: ignore[attr-defined]
        else:
            response.success()  # type: ignore[attr-defined]
        asked_s = response.elapsed.total_seconds() if status else 0.0  # type: ignore[attr-defined]
        line = {"at": time.time(), "who": self.who, "what": name, "status": status}
        line |= {"seconds": asked_s}
        if not refused and status < 400:
            line |= kept
        with _NOTES.open("a") as file:
            file.write(json.dumps(line) + "\n")

    @task(4)
    def look(self) -> None:
        if self.job or self._begin():
            path = random.choice(("survey/", "plan/", "supplies/", "answer/"))
            self._get(f"/jobs/{self.job}/{path}", path)

    @task(3)
    def reading(self) -> None:
        if not (self.job or self._begin()):
            return
        # No two readings are alike: each is found again by its watts.
        watts = round(20 + self.who + random.randrange(10**6) / 1e6, 6)
        form = {
            "csrfmiddlewaretoken": self.token,
            "client_key": uuid.uuid4(),
            "state": "running",
            "watts": f"{watts} W",
        }
        path = f"/jobs/{self.job}/loads/{random.choice(self.loads)}/readings/spot/"
        has_photo = random.randrange(_WITH_PHOTO) == 0
        files = {"photo": ("display.jpg", _PHOTO, "image/jpeg")} if has_photo else None
        name = "keep a reading"
        with self.client.post(path, form, files=files, name=name, catch_response=True) as response:
            self._note(name, response, watts=watts, photo=has_photo)
