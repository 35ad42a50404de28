def puff(message):
    """Log a message calmly."""
    return f"~ {message}"
