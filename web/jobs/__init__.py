"""Jobs, the job switcher, and the record of changes for undo."""
