"""The project, the machine, settings, sources opened for a project, and cached results."""
