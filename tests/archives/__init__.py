"""Archives."""
