"""Trials: real runs of a supply with check-ins, forecasts, and their results."""
