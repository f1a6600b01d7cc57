"""Loads laid out over hours on a supply, and how long it lasts."""
