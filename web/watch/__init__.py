"""The watch: an outage that is under way, and the card that is made beforehand."""
