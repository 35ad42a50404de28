"""The search for a solution."""
