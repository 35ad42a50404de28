"""The core, without any file or network."""
