"""The watch: what to do in an outage that is under way, from what is known now."""
