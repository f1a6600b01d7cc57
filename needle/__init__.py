"""Steady Needle's core: the rules of measuring, profiling, supplying and planning.

Plain Python with NumPy. It knows no site, no clock and no disk: readers take text or parsed
documents, and "now" is always an argument.
"""
