"""The demo scenario, made by code."""
