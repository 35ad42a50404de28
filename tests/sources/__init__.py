"""Sources and what they read."""
