"""Bench: captures from files and loggers, and live meters."""
