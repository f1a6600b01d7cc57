"""Matching loads and supplies: starts, switching order, cords, power-factor correction."""
