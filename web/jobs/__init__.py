"""Jobs, the switcher, and the record of changes that can be undone."""
