"""A runtime, locked libraries and a place → an environment."""
