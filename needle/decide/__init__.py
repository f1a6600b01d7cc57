"""Decisions: whether loads start, cords, power-factor correction, sizes and comparisons."""
