"""Where an environment is, what belongs into it, and changing it with care."""
