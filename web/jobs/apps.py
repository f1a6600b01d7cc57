"""Signal handlers of signing in."""

from django.apps import AppConfig


class JobsConfig(AppConfig):
    name = "web.jobs"

    def ready(self) -> None:
        from django.contrib.auth.signals import user_logged_in

        user_logged_in.connect(_empty_bin, dispatch_uid="bin")


def _empty_bin(sender: object, user: object, **_: object) -> None:
    from web.jobs.actions import empty_bin

    empty_bin(user)
