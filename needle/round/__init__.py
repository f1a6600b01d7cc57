"""The measuring round: what to measure, in which order and for how long, with what one has."""
