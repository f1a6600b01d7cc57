"""Trials: real runs of a supply, their check-ins, and the forecast that follows them."""
