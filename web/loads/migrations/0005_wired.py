"""Being hard-wired is a field of its own: a life or contents may depend on such a load."""

from __future__ import annotations

from typing import Any

from django.db import migrations, models


def move(apps: Any, schema_editor: Any) -> None:
    apps.get_model("loads", "Load").objects.filter(cares="wired").update(cares="", wired=True)


def move_back(apps: Any, schema_editor: Any) -> None:
    loads = apps.get_model("loads", "Load").objects
    loads.filter(wired=True, cares="").update(cares="wired")


class Migration(migrations.Migration):
    dependencies = [
        ("loads", "0004_people"),
    ]

    operations = [
        migrations.AddField(
            model_name="load",
            name="wired",
            field=models.BooleanField(
                default=False,
                help_text="No plug: a licensed electrician measures it, and nobody is told to "
                "unplug it.",
                verbose_name="hard-wired",
            ),
        ),
        migrations.RunPython(move, move_back),
    ]
