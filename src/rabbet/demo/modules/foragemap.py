def reach(hours, speed=24.0):
    """How far, in kilometres, a bee forages in so many hours."""
    return hours * speed / 2
