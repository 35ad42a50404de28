"""Who asks for what in a lock, along which ways, and what holds a library back."""
