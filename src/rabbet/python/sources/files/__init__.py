"""Files of sources, and metadata out of them."""
