"""No form shows more than six fields before its fold; and each page of a newcomer's few."""

import re

from tests.web.base import SiteTest
from tests.web.test_addresses import fill

MOST = 6
FIELD = re.compile(r"<(?:input|select|textarea)\b[^>]*>")


def shown_fields(page):
    """Fields outside every fold, those of the header and of buttons not counted."""
    main = page[page.index('id="work"') :]
    main = re.sub(r"<details\b(?![^>]*\bopen\b).*?</details>", "", main, flags=re.S)
    most = 0
    for form in re.findall(r"<form\b.*?</form>", main, re.S):
        fields = [
            field
            for field in FIELD.findall(form)
            if 'type="hidden"' not in field and 'type="submit"' not in field
            # A photo is a button beside the one that saves.
            if "data-chosen" not in field
        ]
        # Several boxes to tick are one field.
        names = {re.search(r'name="([^"]*)"', field)[1] for field in fields if 'name="' in field}
        most = max(most, len(names))
    return most


class FewFieldsTest(SiteTest):
    def test_every_form(self):
        load = fill(self.job, "Mine")
        plan, supply = self.job.plans.get(), self.job.supplies.get()
        addresses = {
            **{
                name: self.url(name)
                for name in (
                    "jobs:edit",
                    "loads:add",
                    "supplies:add",
                    "plans:add",
                    "trials:start",
                    "trials:past",
                    "bench:loggers",
                )
            },
            "matching:record-start": self.url("matching:record-start"),
            "loads:edit": self.url("loads:edit", load.pk),
            "supplies:edit": self.url("supplies:edit", supply.pk),
            "plans:edit": self.url("plans:edit", plan.pk),
            "plans:entry": self.url("plans:entry", plan.pk, load.pk),
            "bench:upload": self.url("bench:upload", load.pk),
            "matching:cord": self.url("matching:cord", load.pk),
            "matching:correction": self.url("matching:record-correction", load.pk),
        }
        for kind in (
            "spot",
            "start",
            "energy",
            "tally",
            "duty",
            "task",
            "short-run",
            "charge-drop",
            "label",
        ):
            addresses[kind] = self.url("loads:load", load.pk) + f"?type={kind}"
        for kind in ("sun", "window", "battery"):
            addresses[kind] = self.url("plans:add-source", plan.pk, kind)
        for kind in ("idle", "efficiency", "capacity", "route", "together"):
            addresses[f"{kind} test"] = self.url("supplies:test", supply.pk, kind)
        for side in ("output", "input"):
            addresses[side] = self.url("supplies:add-part", supply.pk, side)
        addresses["meter"] = "/meters/new/"
        for name, address in addresses.items():
            with self.subTest(name=name):
                page = self.client.get(address)
                self.assertEqual(page.status_code, 200, address)
                self.assertLessEqual(shown_fields(page.content.decode()), MOST)
