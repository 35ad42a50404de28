def open_skep(name):
    """A greeting from an old-fashioned hive."""
    return f"the skep {name} hums"
