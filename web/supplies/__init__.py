"""Supplies: batteries with inverters, outputs, inputs and tests."""
