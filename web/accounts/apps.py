"""Signal handlers of signing in."""

from django.apps import AppConfig


class AccountsConfig(AppConfig):
    name = "web.accounts"

    def ready(self) -> None:
        from django.contrib.auth.signals import user_logged_in

        from web.accounts.middleware import at_sign_in

        user_logged_in.connect(at_sign_in, dispatch_uid="units")
