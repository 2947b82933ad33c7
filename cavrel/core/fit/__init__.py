"""Curves through points, for a whole batch at once."""
