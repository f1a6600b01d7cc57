"""A place to practise: drills on simulated instruments, apart from real jobs."""
