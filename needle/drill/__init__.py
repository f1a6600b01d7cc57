"""Drills: small jobs with hidden truth, measured on simulated instruments in simulated time."""
