"""Additions that follow ``docs/how_to_add.md``, made in a copy of the tree by a test."""
