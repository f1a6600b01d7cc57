"""Practice: drills on simulated instruments, separate from real jobs."""
