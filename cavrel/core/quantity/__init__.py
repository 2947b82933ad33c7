"""Quantities: units, readings as typed, values with their uncertainty, and how they are rounded."""
