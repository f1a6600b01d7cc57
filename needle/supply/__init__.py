"""Batteries, inverters and the supply they make together."""
