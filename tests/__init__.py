"""Tests, in three floors: core, web, browser."""

from hypothesis import settings

# Examples are drawn anew in `make harden`; here the same few, and no clock on a busy machine.
settings.register_profile("steady", deadline=None, derandomize=True, max_examples=40)
settings.load_profile("steady")
