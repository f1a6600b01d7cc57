"""When and how often a load is used, as people write it."""
