"""Readings, instruments, and consistency checks."""
