"""The git program, started in one place."""
