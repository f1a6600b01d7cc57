"""Supplies: batteries with their inverters."""
