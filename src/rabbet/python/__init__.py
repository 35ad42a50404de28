"""What only Python has: wheels and their tags, metadata, environments, builds, and code that imports."""
