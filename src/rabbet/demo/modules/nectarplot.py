def chart(labels, values, width=40):
    """A bar chart made of text, one line a value."""
    top = max(values)
    margin = max(len(label) for label in labels)
    lines = []
    for label, value in zip(labels, values):
        bar = "#" * round(width * value / top)
        lines.append(f"{label:>{margin}} | {bar} {value:g}")
    return "\n".join(lines)
