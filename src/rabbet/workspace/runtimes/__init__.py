"""The runtimes of a project: Python and other languages, found, chosen, obtained, given to others."""
