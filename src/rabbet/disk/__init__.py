"""Files and folders: read within bounds, written whole, and never through a link that others have made."""
