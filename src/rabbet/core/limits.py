"""Bounds for texts from elsewhere, which no honest one comes near."""

__all__ = ["LONGEST_TEXT"]

# In characters, of a version, a constraint or a requirement: Python reads no number of over 4,300 digits.
LONGEST_TEXT = 4000
