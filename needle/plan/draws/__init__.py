"""Random draws of everything uncertain in a plan, and each load's power over time in every draw."""
