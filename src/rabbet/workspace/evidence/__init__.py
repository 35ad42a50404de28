"""What a project has and imports, as evidence of what it needs."""
