"""``manage.py end_second_step NAME``: the password alone, for somebody who lost phone and codes."""

from __future__ import annotations

from typing import Any

from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand, CommandError, CommandParser

from web.accounts.second_step import end_for, has_second_step


class Command(BaseCommand):
    help = "End the second step at sign-in of an account; its password is enough then."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("name")

    def handle(self, *args: Any, **options: Any) -> None:
        person = get_user_model().objects.filter(username__iexact=options["name"]).first()
        if person is None or not has_second_step(person):
            raise CommandError(f"“{options['name']}” has no second step.")
        end_for(person)
        self.stdout.write("Ended.")
