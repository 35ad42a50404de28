"""A bare repository of our own, which holds what was fetched from others.

Its configuration is the one that git writes when it is made: nothing of a clone's is read while the network
is asked. A remote that is a folder is served by git on this machine, in a repository that anybody may have
prepared: git is told to run nothing of that one either.
"""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from rabbet.core.shell import quoted
from rabbet.errors import CannotWrite
from rabbet.formats.text.address import NotAnAddress, parse_address
from rabbet.net.git.program import CLOSED, INERT, run_git
from rabbet.work.ask import ProgramAnswer

__all__ = ["OwnRepository", "Remote", "remote_at"]

_SECONDS = 600  # of a transfer, or of an archive
_PROTOCOLS = "file:git:http:https:ssh"  # those that start no program but ssh
_USER, _PASSWORD = "RABBET_GIT_USERNAME", "RABBET_GIT_PASSWORD"
# Run by git's own shell; what it prints is how git takes credentials (gitcredentials(7)).
_ANSWER = f'printf "username=%s\\npassword=%s\\n" "${_USER}" "${_PASSWORD}"'
_HELPER = f'!answer() {{ test "$1" = get && {_ANSWER}; }}; answer'
_SERVE = " ".join(
    [*(f"{name}={quoted(value)}" for name, value in CLOSED.items()), "git", *map(quoted, INERT)]
)


class Remote(NamedTuple):
    """A repository elsewhere: its address, without what stands for `credentials` (`user:password`) in it."""

    url: str
    credentials: str = ""

    @property
    def is_folder(self) -> bool:
        """Whether it is on this machine."""
        return self.url.startswith(("/", "file:"))


def remote_at(text: str, folder: Path) -> Remote:
    """A remote by an address in a form of git's: a URL, `HOST:PATH`, or a path from this folder."""
    if "://" in text:
        try:
            address = parse_address(text)
        except NotAnAddress:
            return Remote(text)
        return Remote(address.text, address.credentials)
    host, colon, _ = text.partition(":")
    return Remote(text) if colon and "/" not in host else Remote(str(folder / text))


class OwnRepository:
    """The repository in a folder. `environ` are git's variables."""

    def __init__(self, folder: Path, environ: Mapping[str, str]) -> None:
        self.folder = folder
        self._environ = environ

    def make(self) -> None:
        """Make the repository, or mend one that a killed run left. Raises `CannotWrite`."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        except OSError as error:
            raise CannotWrite(f"{self.folder} can't be written", because=[str(error.strerror)]) from error
        self.ask(["init", "--quiet", "--bare", "--template="])

    def exists(self) -> bool:
        """Whether it was made."""
        return (self.folder / "HEAD").is_file()

    def ask(
        self, arguments: Sequence[str], given: bytes = b"", variables: Mapping[str, str] | None = None
    ) -> ProgramAnswer:
        """Do something without the network and without any user's configuration. Raises `SourceFailed`."""
        none = {"GIT_CONFIG_GLOBAL": "/dev/null", "GIT_CONFIG_NOSYSTEM": "1", "GIT_ATTR_NOSYSTEM": "1"}
        environ = {**self._environ, **none, **CLOSED, **(variables or {})}
        options = [f"--git-dir={self.folder}", *arguments]
        return run_git(options, self.folder, environ, given=given, seconds=_SECONDS)

    def fetch(self, remote: Remote, refspecs: Sequence[str], *options: str) -> ProgramAnswer:
        """Fetch refs. Raises `SourceFailed` as `run_git` does."""
        options = ("--no-tags", "--no-write-fetch-head", *options, self._served("upload-pack", remote))
        return self._talk(remote, ["fetch", "--quiet", *options, "--", remote.url, *refspecs])

    def refs_of(self, remote: Remote, pattern: str) -> ProgramAnswer:
        """List refs of a remote: all that end with the pattern. Raises as `fetch` does."""
        served = self._served("upload-pack", remote)
        return self._talk(remote, ["ls-remote", "--quiet", served, "--", remote.url, pattern])

    def push(self, remote: Remote, refspecs: Sequence[str], *options: str) -> ProgramAnswer:
        """Push refs. Raises as `fetch` does."""
        options = ("--no-verify", *options, self._served("receive-pack", remote))
        return self._talk(remote, ["push", "--quiet", *options, "--", remote.url, *refspecs])

    @staticmethod
    def _served(service: str, remote: Remote) -> str:
        """The option that says which program serves a remote."""
        return f"--{service}={_SERVE} {service}" if remote.is_folder else f"--{service}=git-{service}"

    def _talk(self, remote: Remote, arguments: Sequence[str]) -> ProgramAnswer:
        user, _, password = remote.credentials.partition(":")
        allowed = self._environ.get("GIT_ALLOW_PROTOCOL", _PROTOCOLS)
        environ = {**self._environ, "GIT_ALLOW_PROTOCOL": allowed, _USER: user, _PASSWORD: password}
        helper: list[str] = []
        if remote.credentials:
            helper = ["-c", f"credential.{parse_address(remote.url).origin}.helper={_HELPER}"]
        given = [f"--git-dir={self.folder}", *helper, *arguments]
        return run_git(given, self.folder, environ, seconds=_SECONDS, apart=False)
