"""Drills: exercises with a hidden truth, measured on simulated instruments in simulated time."""
