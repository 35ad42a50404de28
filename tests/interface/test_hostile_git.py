"""A repository that somebody prepared: none of the programs that it names is run by looking."""

import shutil
import subprocess
import tomllib
import zlib
from hashlib import sha1
from pathlib import Path

from rabbet.demo.stand_in import StandIn
from tests.support import PATIENCE
from tests.support.program import ProgramCase

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "git.toml").read_text())
EMBEDDED = ("a lazy fetch through ext", "a remote in a folder")
GIT = ("git", "-c", "user.name=bee", "-c", "user.email=bee@apiary.example")


class HostileGit(ProgramCase):
    """A project with an environment, whose lock has two revisions."""

    def setUp(self) -> None:
        super().setUp()
        self.index = self.serve(StandIn())
        self.begin(self.index.address, "tallywax")
        self.rabbet("declare", "--limit", "tallywax<1.2")
        self.rabbet("resolve")
        self.git("init", "--quiet")
        self.commit()
        self.rabbet("retract", "--limit", "tallywax")
        self.rabbet("resolve", "--raise-all")
        self.rabbet("census", "send", "--every", "recreate", code=0)
        self.commit()
        self.rabbet("recreate")
        self.mark = self.root / "HERE"
        self.evil = self.root / "evil"
        self.evil.write_text(f"#!/bin/sh\ntouch {self.mark}\n")
        self.evil.chmod(0o755)
        shutil.copy(self.evil, self.root / "git-remote-evil")
        shutil.copytree(self.root, self.root / "hooks", ignore=lambda *_: ["hivescale", "store", "home"])
        for name in ("pre-push", "post-receive", "reference-transaction", "post-index-change", "pre-auto-gc"):
            shutil.copy(self.evil, self.root / "hooks" / name)
        (self.root / "attributes").write_text("* diff=bees filter=bees\n")

    def git(self, *arguments: str, folder: Path | None = None, given: bytes = b"") -> str:
        done = subprocess.run(
            [*GIT, *arguments], cwd=folder or self.project, input=given, capture_output=True, check=True
        )
        return done.stdout.decode()

    def commit(self) -> None:
        self.git("add", "pyproject.toml", "pylock.toml")
        self.git("commit", "--quiet", "--message", "x")

    def ask(self, commands: list[str]) -> None:
        """Run commands, and complete lines, with the evil program where helpers are looked for."""
        paths = {"PATH": f"{self.root}:{self.variables['PATH']}"}
        for command in commands:
            done = subprocess.run(
                self.command(*command.split()),
                cwd=self.project,
                env={**self.variables, **paths},
                stdin=subprocess.DEVNULL,
                capture_output=True,
                text=True,
                timeout=PATIENCE,
                check=False,
            )
            self.assertIn(done.returncode, (0, 1, 2, 3, 5, 7), f"{command}\n{done.stderr}")
            self.assertFalse(self.mark.exists(), f"{command}\n{done.stdout}{done.stderr}")
        for line in TABLE["commands"]["typed"]:
            self.completed(line)
            self.assertFalse(self.mark.exists(), line)

    def test_configurations(self) -> None:
        """As the clone's own repository, and as one that is laid out in the project's folder."""
        trap = self.root / "trap.git"
        self.git("clone", "--quiet", "--bare", str(self.project), str(trap))
        shutil.copytree(self.root / "hooks", trap / "hooks", dirs_exist_ok=True)
        first = self.git("rev-parse", "HEAD~1:pylock.toml").strip()
        whole = shutil.copytree(self.project / ".git", self.root / "whole")
        (whole / "objects" / "info" / "alternates").write_text(f"{trap}/objects\n")
        for title, text in TABLE["programs"].items():
            config = text.format(evil=self.evil, root=self.root)
            (trap / "config").write_text(f"[core]\n\trepositoryformatversion = 1\n\tbare = true\n{config}")
            for place in (
                (self.project / ".git", self.project) if title in EMBEDDED else (self.project / ".git",)
            ):
                with self.subTest(title, embedded=place == self.project):
                    shutil.rmtree(self.project / ".git", ignore_errors=True)
                    shutil.copytree(whole, place, dirs_exist_ok=True)
                    (place / "config").write_text(f"[core]\n\trepositoryformatversion = 1\n{config}")
                    if "promisor" in text:
                        (place / "objects" / first[:2] / first[2:]).unlink()
                        (place / "objects" / "info" / "alternates").unlink()
                    self.ask(
                        TABLE["commands"][
                            "sharing" if "a remote" in title or "address" in title else "looking"
                        ]
                    )
            for name in ("HEAD", "config", "index", "objects", "refs", "logs", "hooks", "info"):
                found = self.project / name
                shutil.rmtree(found) if found.is_dir() else found.unlink(missing_ok=True)

    def test_sizes(self) -> None:
        """What is packed well does not fill the memory, and many refs don't keep the shell that completes."""
        bomb = zlib.compress(b"blob 400000000\0" + bytes(400_000_000), 9)
        name = sha1(b"blob 400000000\0" + bytes(400_000_000), usedforsecurity=False).hexdigest()
        place = self.project / ".git" / "objects" / name[:2] / name[2:]
        place.parent.mkdir(exist_ok=True)
        place.write_bytes(bomb)
        listed = f"100644 blob {name}\tpylock.toml\n".encode()
        parent = "HEAD"
        for number in range(3):
            tree = self.git("mktree", given=listed).strip()
            parent = self.git("commit-tree", tree, "-p", parent, "-m", f"{number}").strip()
        self.git("update-ref", "HEAD", parent)
        limited = ("bash", "-c", 'ulimit -v 1500000; exec "$@"', "bash")
        told = self.rabbet("compare", "git:HEAD", code=5, before=limited).err
        self.assertIn("can't be read", told)
        self.rabbet("drift", before=limited)
