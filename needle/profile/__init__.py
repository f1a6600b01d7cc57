"""From readings to a load's profile: states, duty, energy and start-up."""
