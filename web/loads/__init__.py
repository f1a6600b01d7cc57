"""Survey: loads, their readings and profiles."""
