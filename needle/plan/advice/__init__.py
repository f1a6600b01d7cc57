"""What to measure, change or buy next, from a plan that was simulated."""
