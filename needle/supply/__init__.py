"""Batteries, inverters, outputs, inputs, and the supply that they form."""
