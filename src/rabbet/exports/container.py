"""A project in a container: a description to build it by (OCI), in layers that change as seldom as possible.

First what the system brings, then the locked libraries, then the project. Libraries come from a carried
folder, so that nothing is asked of any network; the program runs as nobody in particular.
"""

import json

from msgspec import Struct

from rabbet.core.shown_text import comment, visible

__all__ = ["CARRIED", "IGNORED", "Container", "containerfile", "editor_description"]

CARRIED = "carried"
_USER = 10001  # no user of any system
IGNORED = """\
.git
.venv*
**/__pycache__
**/*.pyc
.devcontainer
"""


class Container(Struct, frozen=True, kw_only=True):
    """The parts of a container.

    Its `base` image has Python and, if it is a `distribution` that is declared, gets these system packages.
    `options` are those of `recreate`, which makes an `environment` of that name; `carrying` is the command
    that has to come before. The `command` is what it runs.
    """

    base: str
    python: str
    distribution: str
    packages: tuple[str, ...]
    options: str
    carrying: str
    environment: str
    installed: bool
    command: tuple[str, ...]


def containerfile(container: Container) -> str:
    """The text of the file; the same for the same lock and declaration."""
    lines = [
        comment(f"Before it is built: {container.carrying}"),
        f"ARG BASE={container.base}",
        "FROM ${BASE} AS system",
        *_system(container),
        "",
        "FROM system AS libraries",
        "WORKDIR /app",
        f"COPY {CARRIED} /{CARRIED}",
        "COPY pyproject.toml pylock*.toml ./",
        "ENV RABBET_STORE=/tmp/store RABBET_SHARE_FILES=0",
        (
            f"RUN python{container.python} -I /{CARRIED}/rabbet.py recreate"
            f" --carried /{CARRIED} {container.options} --quiet"
        ),
        "",
        "FROM system AS project",
        "COPY . /project",
        f"RUN rm -rf /project/{CARRIED}",
        "",
        "FROM system",
        "WORKDIR /app",
        f"COPY --from=libraries /app/{container.environment} /app/{container.environment}",
        "COPY --from=project /project /app",
        f"ENV PATH=/app/{container.environment}/bin:$PATH PYTHONDONTWRITEBYTECODE=1 PYTHONUNBUFFERED=1",
        f"ENV PYTHONPATH={'/app/src:/app' if container.installed else '/app'}",
        f"USER {_USER}:{_USER}",
        f"CMD {json.dumps(list(container.command))}",
    ]
    return "\n".join([*map(visible, lines), ""])  # no name becomes an instruction of its own


def _system(container: Container) -> list[str]:
    """The packages that the project needs of a distribution."""
    if not container.packages:
        return []
    names = " ".join(container.packages)
    installing = {
        "debian": f"apt-get update && apt-get install --yes --no-install-recommends {names}"
        " && rm -rf /var/lib/apt/lists/*",
        "alpine": f"apk add --no-cache {names}",
        "fedora": f"dnf install --assumeyes --setopt=install_weak_deps=False {names} && dnf clean all",
    }
    return [f"RUN {installing[container.distribution]}"]


def editor_description(name: str, environment: str) -> str:
    """A development container's description (the open specification), beside the container's own file."""
    described = {
        "name": name,
        "build": {"dockerfile": "../Containerfile", "context": "..", "target": "libraries"},
        "remoteEnv": {"PATH": f"/app/{environment}/bin:${{containerEnv:PATH}}"},
    }
    return json.dumps(described, indent=2) + "\n"
