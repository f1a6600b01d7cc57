"""What developers run beside the tests: measurements and pictures."""
