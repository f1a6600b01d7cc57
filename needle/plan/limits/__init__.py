"""Limits of inverter and outputs: which loads trip them, and which starts."""
