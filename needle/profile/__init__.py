"""From readings to what a load does: states, duty, energy, start."""
