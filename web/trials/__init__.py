"""Trials: real runs of a supply, checked in on, foretold, and learnt from."""
