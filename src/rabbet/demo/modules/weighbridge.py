def read_scale(line):
    """Kilograms from a line of the scale's protocol, such as `W+0042.5kg`."""
    return float(line.strip().removeprefix("W").removesuffix("kg"))
