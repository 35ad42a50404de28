"""The error for an environment that this user's Rabbet did not create."""

from rabbet.core.shell import quoted
from rabbet.errors import EnvironmentFailed
from rabbet.workspace.project import Project

__all__ = ["stranger"]


def stranger(project: Project) -> EnvironmentFailed:
    """The refusal to run, change or remove what may have come with a clone, or hold somebody's work."""
    root = project.environment
    why = (
        "it is a link"
        if root.is_symlink()
        else "your store knows nothing of it: it may have come from elsewhere"
    )
    there, aside = quoted(str(root)), quoted(f"{root}-before")
    return EnvironmentFailed(
        f"{root} was not made here by your Rabbet, so it is left alone",
        because=[why, "nothing of it is run, and it may hold something that you want to keep"],
        remedy=f"mv {there} {aside} && rabbet recreate",
    )
