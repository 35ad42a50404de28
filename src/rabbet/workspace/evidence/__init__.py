"""A project's files and imports, as evidence of its requirements."""
