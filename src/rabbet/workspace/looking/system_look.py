"""Whether this machine's system has the packages that a project declares."""

from collections.abc import Mapping
from pathlib import Path

from rabbet.core.declaration.model import Declaration
from rabbet.core.drift.checks.project import SystemLook
from rabbet.runtimes.system_packages import lacking_packages, this_system

__all__ = ["system_look"]

_INSTALL = {"alpine": "apk add", "debian": "apt-get install", "fedora": "dnf install"}


def system_look(declaration: Declaration, environ: Mapping[str, str], root: Path = Path("/")) -> SystemLook:
    """Look into the system's own database, where the declaration names packages of this distribution."""
    if not declaration.system:
        return SystemLook()
    system, named = this_system(root), ", ".join(sorted(declaration.system))
    distribution = system.distribution(declaration.system)
    if distribution is None:
        return SystemLook(
            unknown=f"system packages are declared for {named}, and this is {system.title}: not checked"
        )
    lacking = lacking_packages(distribution, declaration.system[distribution], environ, root)
    if lacking is None:
        return SystemLook(
            unknown=f"the package database of {system.title} can't be read: system packages are not checked"
        )
    advice = f"not installed here; as administrator: {_INSTALL[distribution]} {' '.join(lacking)}"
    return SystemLook(lacking=lacking, advice=advice)
