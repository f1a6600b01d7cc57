"""Simulated appliances and meters: deterministic stand-ins with physics enough to be measured.

Everything follows from a seed and a clock, so that a page can be reloaded, a test repeated and a
demo remade. What they really draw is known to tests only.
"""
