"""Measuring rounds: what to measure in a visit, and progress."""
