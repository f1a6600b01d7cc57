"""``python -m tools.offline``: entries made in two browsers without a site, and what became of it.

Two browsers enter readings, photos, check-ins and switches while the site is killed; one of them is
closed and opened again; the site starts again. Prints what arrived, and how fast a kept page opens.
"""

from __future__ import annotations

import contextlib
import io
import json
import shutil
import sqlite3
import subprocess
import tempfile
import time
from itertools import pairwise
from pathlib import Path

from PIL import Image
from playwright.sync_api import (
    BrowserContext,
    FilePayload,
    Page,
    Playwright,
    ViewportSize,
    expect,
    sync_playwright,
)

from tools.chromium import ARGS
from tools.shots import free_port, serve, settle, sign_in

READINGS, PHOTOS, CHECK_INS, SWITCHES = 15, 5, 10, 10
PHONE = ViewportSize(width=390, height=844)
#: Loads of the demo's first job that the two browsers switch.
SWITCHED = ("Exam lamp", "Laptop charging")


def browser(playwright: Playwright, folder: Path) -> tuple[BrowserContext, Page]:
    """A browser that keeps what it stores in a folder."""
    context = playwright.chromium.launch_persistent_context(
        str(folder),
        executable_path=shutil.which("chromium"),
        args=list(ARGS),
        viewport=PHONE,
        has_touch=True,
        is_mobile=True,
    )
    return context, context.new_page()


def picture() -> bytes:
    """A small photo."""
    buffer = io.BytesIO()
    Image.new("RGB", (320, 240), "#808040").save(buffer, "JPEG")
    return buffer.getvalue()


def stop(server: subprocess.Popen[bytes]) -> None:
    """Kill the site without warning."""
    with contextlib.suppress(ProcessLookupError):
        server.kill()
    server.wait()


def count_waiting(page: Page) -> int:
    """Entries that wait on the device."""
    return int(page.locator("#outbox li").count())


def enter_readings(page: Page, base: str, first: int, photos: int) -> None:
    page.goto(f"{base}/jobs/1/bench/")
    for number in range(READINGS):
        page.get_by_label("Watts", exact=True).fill(str(first + number))
        if number < photos:
            file = FilePayload(name="meter.jpg", mimeType="image/jpeg", buffer=picture())
            page.locator("#meter-form input[type=file]").set_input_files(file)
        page.get_by_role("button", name="Save this reading").click()
        expect(page.get_by_label("Watts", exact=True)).to_have_value("")


def enter_check_ins(page: Page, base: str, trial: int, first: float) -> None:
    page.goto(f"{base}/jobs/1/trials/{trial}/")
    for number in range(CHECK_INS // 2):
        page.get_by_label("Charge, %").first.fill(f"{first - number:g}")
        before = count_waiting(page)
        page.get_by_role("button", name="Save check-in").click()
        expect(page.locator("#outbox li")).to_have_count(before + 1)


def enter_switches(page: Page, base: str, load: str) -> None:
    page.goto(f"{base}/jobs/1/watch/")
    switch = page.locator(".load-switch", has_text=load)
    for _ in range(SWITCHES):
        before = count_waiting(page)
        switch.click()
        expect(page.locator("#outbox li")).to_have_count(before + 1)


def arrived(folder: str, watch: int, trial: int, since: int) -> dict[str, object]:
    """What the site has, from its database; readings after the one with the number ``since``."""
    database = sqlite3.connect(Path(folder) / "steady-needle.sqlite3")
    watts = [
        json.loads(data)["watts"]
        for (data,) in database.execute(
            "select data from loads_reading where type='spot' and json_extract(data, '$.watts')"
            " is not null and id > ? order by id",
            [since],
        )
    ]
    charges = [
        json.loads(data)["percent"]
        for (data,) in database.execute(
            "select data from trials_checkin where trial_id=? and"
            " json_extract(data, '$.percent') in"
            " (41.5,40.5,39.5,38.5,37.5,31.25,30.25,29.25,28.25,27.25) order by id",
            [trial],
        )
    ]
    states = [
        set(json.loads(data)["on"])
        for (data,) in database.execute(
            "select data from trials_checkin where trial_id=? order by at, id", [watch]
        )
        if "on" in json.loads(data)
    ]
    (photos,) = database.execute("select count(*) from loads_photo where width=320").fetchone()
    turns = {
        load: sum((load in after) != (load in before) for before, after in pairwise(states))
        for load in SWITCHED
    }
    return {
        "readings": len(watts),
        "different": len(set(watts)),
        "in order": all(_in_order(watts, number) for number in (1, 2)),
        "photos": photos,
        "check-ins": len(charges),
        "switches": len(states),
        "turns of each load after the first": turns,
    }


def _in_order(watts: list[float], browser: int) -> bool:
    """Whether the readings of a browser came in the order in which they were made."""
    mine = [value for value in watts if value // 1000 == browser]
    return mine == sorted(mine)


def main() -> None:
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as playwright:
        port = free_port()
        base = f"http://127.0.0.1:{port}"
        server = serve(folder, port)
        kept = [Path(folder) / f"browser{number}" for number in (1, 2)]
        opened = [browser(playwright, profile) for profile in kept]
        first = opened[0][1]
        sign_in(first, port)
        first.goto(f"{base}/jobs/1/watch/")
        first.get_by_role("button", name="Power is out").click()
        expect(first.locator("#watch")).to_be_visible(timeout=60_000)
        watch = int(str(first.locator("[name=trial]").first.get_attribute("value")))
        sign_in(opened[1][1], port)
        for _, page in opened:
            page.goto(f"{base}/jobs/1/bench/")
            settle(page)
            page.goto(f"{base}/jobs/1/watch/")
            settle(page)
            page.wait_for_timeout(12_000)
        stop(server)
        database = sqlite3.connect(Path(folder) / "steady-needle.sqlite3")
        (since,) = database.execute("select max(id) from loads_reading").fetchone()
        for number, (_, page) in enumerate(opened):
            enter_readings(page, base, 1000 * (number + 1), PHOTOS if number == 0 else 0)
            enter_check_ins(page, base, 3, (41.5, 31.25)[number])
            enter_switches(page, base, SWITCHED[number])
            print(f"browser {number + 1}: {count_waiting(page)} entries wait on it")
        # One is closed and opened again, still without the site.
        opened[0][0].close()
        context, first = browser(playwright, kept[0])
        began = time.perf_counter()
        first.goto(f"{base}/jobs/1/bench/")
        first.get_by_label("Watts", exact=True).wait_for()
        print(f"bench from what is kept: {time.perf_counter() - began:.2f} s with a fresh browser")
        began = time.perf_counter()
        first.reload()
        first.get_by_label("Watts", exact=True).wait_for()
        print(f"and again: {time.perf_counter() - began:.2f} s")
        server = serve(folder, port)
        for page in (first, opened[1][1]):
            expect(page.locator("#outbox")).to_be_hidden(timeout=180_000)
        for name, value in arrived(folder, watch, 3, since).items():
            print(f"{name}: {value}")
        context.close()
        opened[1][0].close()
        server.terminate()
        server.wait()


if __name__ == "__main__":
    main()
