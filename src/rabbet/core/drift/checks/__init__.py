"""The checks of an installation, kind by kind; each yields its own findings."""
