"""Measuring rounds: what to measure in a visit, checked off as it is done."""
