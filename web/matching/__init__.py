"""Matching loads and supplies: starts, switching on, cords, power-factor correction."""
