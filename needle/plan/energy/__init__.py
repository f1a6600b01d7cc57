"""Energy over time: demand at the battery, state of charge minute by minute, time to empty."""
