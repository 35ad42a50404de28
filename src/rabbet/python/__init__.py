"""All that only Python has: wheels and their tags, metadata, environments, builds, and imports."""
