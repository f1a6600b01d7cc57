"""Readings, the instruments they come from, and whether they agree."""
