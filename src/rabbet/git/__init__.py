"""The git program: earlier revisions of a file, and commits of repositories elsewhere."""
