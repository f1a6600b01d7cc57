"""Simulated appliances, meters and supplies: deterministic stand-ins that can be measured.

Everything follows from a seed and a clock, so that a page can be reloaded, a test repeated and a
demo rebuilt. Only tests know their true values.
"""
