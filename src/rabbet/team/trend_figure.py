"""The share of machines that are as locked, week by week, as a picture by Matplotlib."""

from collections.abc import Sequence
from datetime import date
from io import BytesIO

__all__ = ["drawn_trend"]

_SIZE, _DPI = (8.0, 3.6), 120  # inches
_INK, _FILL = "#3d6b35", "#dfe9d8"
_MOST_TICKS = 12


def drawn_trend(title: str, weeks: Sequence[tuple[str, float, int]]) -> bytes:
    """The picture, as a PNG file's content, of weeks (their first days), shares, and numbers of machines.

    Raises `ModuleNotFoundError` without Matplotlib.
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=_SIZE, dpi=_DPI, facecolor="#ffffff", layout="tight")
    axes = figure.add_subplot()
    days = [date.fromisoformat(begins) for begins, _, _ in weeks]
    places = [(day - days[0]).days / 7 for day in days]  # weeks without a row are gaps
    shares = [share * 100 for _, share, _ in weeks]
    axes.fill_between(places, shares, color=_FILL)
    axes.plot(places, shares, color=_INK, marker="o", markersize=4)
    axes.set(ylim=(0, 105), ylabel="% of machines as locked")
    axes.set_title(title.replace("$", "\\$"), loc="left", fontsize=11, fontweight="bold")
    step = max(1, -(-len(weeks) // _MOST_TICKS))
    axes.set_xticks(places[::step], [begins for begins, _, _ in weeks][::step], rotation=30, fontsize=8)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    if weeks:
        axes.set_title(f"{shares[-1]:.0f}% of {weeks[-1][2]} at the end", loc="right", fontsize=10)
    content = BytesIO()
    FigureCanvasAgg(figure).print_png(content)  # type: ignore[no-untyped-call]
    return content.getvalue()
