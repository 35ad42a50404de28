"""The views of `export kernel` and `export kernels`."""

from rabbet.cli.context import Context
from rabbet.documents.amounts import count
from rabbet.documents.more.kernels import KernelDocument, KernelsDocument

__all__ = ["KernelView", "KernelsView"]


class KernelView(KernelDocument, frozen=True):
    """A kernel, and whether it is registered now."""

    def show(self, context: Context) -> None:
        """Print what notebooks call it, and how to take it back."""
        title = self.known.kernel.title
        if self.registered:
            context.show(f"Notebooks can choose '{title}' now. To take it back: rabbet export kernel --back")
        else:
            context.show(f"Notebooks don't list '{title}' any more.")


class KernelsView(KernelsDocument, frozen=True):
    """All kernels that were registered, or those that are not `registered` any more."""

    def show(self, context: Context) -> None:
        """Print one row a kernel."""
        rows = [
            (
                known.kernel.title,
                str(known.kernel.environment),
                "there" if known.there else "its environment is gone",
            )
            for known in self.found
        ]
        if rows:
            context.show_table(("kernel", "environment", "state"), rows)
            context.show()
        if self.registered:
            lost = any(not known.there for known in self.found)
            following = (
                " To remove those without an environment: rabbet export kernels --back" if lost else ""
            )
            context.show(f"{count(len(rows), 'kernel')} registered.{following}")
        else:
            context.show(f"{count(len(rows), 'kernel')} removed.")
