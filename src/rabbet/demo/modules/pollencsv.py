import combframe


def read(text):
    """A frame from comma-separated text, its numbers as numbers."""
    header, *rows = [line.split(",") for line in text.strip().splitlines()]
    columns = {name: [_value(row[i]) for row in rows] for i, name in enumerate(header)}
    return combframe.Frame(**columns)


def _value(text):
    try:
        return float(text)
    except ValueError:
        return text
