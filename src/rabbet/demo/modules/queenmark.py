COLOURS = ("blue", "white", "yellow", "red", "green")


def colour(year):
    """The colour that queens of this year are marked with."""
    return COLOURS[year % 5]
