"""What protects accounts: of everybody's demo, and against guesses of somebody signed in."""

from __future__ import annotations

from typing import Any

from django.conf import settings

from web.common.rates import Rate

#: Wrong passwords of somebody who is signed in: the old one, and the one before deleting.
OWN_PASSWORD = Rate("own-password", 10, 900)
#: Wrong codes of the second step of one account.
WRONG_CODES = Rate("wrong-codes", 10, 900)
#: The account that everybody who looks at a demo may know the password of.
DEMO_NAME = "demo"


def is_everybodys(user: Any) -> bool:
    """Whether it is the demo's named account, whose password is public."""
    return bool(settings.DEMO and user.username == DEMO_NAME)
