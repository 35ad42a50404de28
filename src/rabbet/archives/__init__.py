"""Archives (tar, zip, wheels): what may be in them, read within bounds, and packed the same each time."""
