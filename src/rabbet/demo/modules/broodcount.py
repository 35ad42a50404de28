def count(cells):
    """How many cells of a comb hold brood."""
    return sum(1 for cell in cells if cell == "brood")
