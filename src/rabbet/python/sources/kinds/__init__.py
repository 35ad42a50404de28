"""The kinds of sources: indexes, folders, pages, addresses, trees, builds of the team."""
