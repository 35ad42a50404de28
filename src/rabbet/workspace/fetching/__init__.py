"""What fetches for a project: its sources, opened, and what environments and builds are made of."""
