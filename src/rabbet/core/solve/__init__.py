"""Constraints and candidates → one solution, or a derivation of why there is none."""
