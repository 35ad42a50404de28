"""A census as one page: everything is in it, and nothing is loaded from elsewhere."""

from importlib.resources import files

from rabbet.team.sheet import Sheet

__all__ = ["page"]


def page(sheet: Sheet) -> str:
    """The page's text; whatever a census holds is text in it. Raises `ModuleNotFoundError` without Jinja."""
    from jinja2 import Environment, StrictUndefined

    template = files("rabbet.team").joinpath("page.html").read_text(encoding="utf-8")
    environment = Environment(
        autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    return environment.from_string(template).render(sheet=sheet)
