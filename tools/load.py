"""People who look at the demo, one in ten of them acting, for Locust (``tools.scale`` runs it)."""

from __future__ import annotations

import itertools
import random
import re
import uuid

from locust import HttpUser, between, task

_number = itertools.count(1)
_TOKEN = re.compile(r'name="csrfmiddlewaretoken" value="([^"]+)"')


class Person(HttpUser):
    """Somebody with a copy of the demo of their own, from an address of their own."""

    abstract = True
    wait_time = between(1, 4)

    def on_start(self) -> None:
        number = next(_number)
        self.client.headers["X-Forwarded-For"] = f"10.0.{number // 250}.{number % 250 + 1}"
        page = self.client.get("/sign-in/", name="sign in").text
        self.token = self._token(page)
        jobs = self.client.post(
            "/look-around/", {"csrfmiddlewaretoken": self.token}, name="look around"
        ).text
        self.token = self._token(jobs)
        # The clinic: the last of the demo's jobs by name.
        self.job = re.findall(r"/jobs/(\d+)/survey/", jobs)[-1]
        survey = self.see("survey/")
        self.loads = re.findall(rf"/jobs/{self.job}/loads/(\d+)/", survey)
        plan = self.see("plan/")
        self.plan = re.search(rf"/jobs/{self.job}/plans/(\d+)/", plan)[1]  # type: ignore[index]
        trials = self.see("trials/")
        self.trial = re.search(rf"/jobs/{self.job}/trials/(\d+)/", trials)[1]  # type: ignore[index]

    def _token(self, page: str) -> str:
        return _TOKEN.search(page)[1]  # type: ignore[index]

    def see(self, path: str, name: str = "") -> str:
        text: str = self.client.get(f"/jobs/{self.job}/{path}", name=name or path).text
        return text

    @task(2)
    def nothing(self) -> None:
        """What the server itself takes: the measure of all others."""
        self.client.get("/alive/", name="an empty view")

    @task(4)
    def survey(self) -> None:
        self.see("survey/")

    @task(3)
    def load(self) -> None:
        self.see(f"loads/{random.choice(self.loads)}/", "a load")

    @task(3)
    def day_plan(self) -> None:
        self.see("plan/")

    @task(2)
    def places(self) -> None:
        self.see(random.choice(("supplies/", "trials/", "bench/", "sheet/")))


class Viewer(Person):
    weight = 9


class Actor(Person):
    """Keeps readings, checks in and leaves loads off: what makes answers be worked out."""

    weight = 1

    def _post(self, path: str, name: str, **fields: object) -> None:
        fields = {"csrfmiddlewaretoken": self.token, "client_key": uuid.uuid4(), **fields}
        self.client.post(f"/jobs/{self.job}/{path}", fields, name=name)

    @task(4)
    def reading(self) -> None:
        watts = f"{random.uniform(5, 300):.1f} W"
        self._post(
            f"loads/{random.choice(self.loads)}/readings/spot/",
            "keep a reading",
            state="running",
            watts=watts,
        )

    @task(2)
    def check_in(self) -> None:
        watts = f"{random.randint(20, 90)} W"
        self._post(f"trials/{self.trial}/check-in/", "check in", watts=watts)
