"""Resolving 150 libraries whose listings hold 91,000 files, as real ones do, for three targets.

Run it by `make bench`; `--before PROGRAM` measures the `rabbet` of another checkout beside it. The listings
are made up, in the proportions of a real stack: a few hundred releases of a library, two thirds of them of
wheels for everybody, the others of one wheel for each platform and version of Python. No file is ever
fetched.
"""

import hashlib
import json
import random
import tempfile
import threading
from collections.abc import Callable, Iterator
from functools import partial
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from multiprocessing.connection import Connection
from pathlib import Path

from bench.in_turn import compared, line, program_before
from bench.resolve import PROGRAM, Bench
from bench.serving import serving

LIBRARIES = 150
ROUNDS = 5
PLATFORMS = (
    "manylinux_2_17_x86_64.manylinux2014_x86_64",
    "manylinux_2_28_aarch64",
    "musllinux_1_2_x86_64",
    "macosx_10_9_x86_64",
    "macosx_11_0_arm64",
    "win_amd64",
)
PYTHONS = ("cp39", "cp310", "cp311", "cp312", "cp313")
KIND = "application/vnd.pypi.simple.v1+json"


def name_of(number: int) -> str:
    """The name of a library."""
    return f"waxcell-{number}"


def wheels_of(number: int, version: str) -> Iterator[str]:
    """The names of a release's wheels: for every third library, compiled ones."""
    distribution = f"waxcell_{number}-{version}"
    if number % 3:
        yield f"{distribution}-py3-none-any.whl"
        return
    for python in PYTHONS:
        for platform in PLATFORMS:
            yield f"{distribution}-{python}-{python}-{platform}.whl"


def pages(origin: str) -> dict[str, bytes]:
    """All that is served at an address, by path: listings, and metadata beside the newest releases' files."""
    chance, served = random.Random(7), {}
    for number in range(LIBRARIES):
        newest = sorted(chance.sample(range(LIBRARIES), 3))
        needs = [f"Requires-Dist: {name_of(index)}>=0.1" for index in newest if index > number]
        files = []
        for release in range(45 if number % 3 == 0 else 105):
            version = f"{release // 20}.{release % 20}.{chance.randrange(5)}"
            text = f"Metadata-Version: 2.1\nName: {name_of(number)}\nVersion: {version}\n" + "\n".join(needs)
            content = text.encode() + b"\n\n" + b"x" * 2000
            told = hashlib.sha256(content).hexdigest()
            for filename in (*wheels_of(number, version), f"waxcell_{number}-{version}.tar.gz"):
                files.append(entry(filename, told, origin))
                if release >= 40:
                    served[f"/files/{filename}.metadata"] = content
        page = {"meta": {"api-version": "1.1"}, "name": name_of(number), "files": files}
        served[f"/simple/{name_of(number)}/"] = json.dumps(page).encode()
    return served


def entry(filename: str, metadata_sha256: str, origin: str) -> dict[str, object]:
    """A file as a page lists it."""
    wheel = filename.endswith(".whl")
    return {
        "filename": filename,
        "url": f"{origin}/files/{filename}",
        "hashes": {"sha256": hashlib.sha256(filename.encode()).hexdigest()},
        "size": 100_000 + len(filename),
        "upload-time": "2025-03-01T10:00:00.000000Z",
        "requires-python": ">=3.9",
        "yanked": False,
        "core-metadata": {"sha256": metadata_sha256} if wheel else False,
    }


def serve(told: Connection) -> None:
    """Serve all that, until told to end."""
    served: dict[str, bytes] = {}

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        disable_nagle_algorithm = True

        def do_GET(self) -> None:
            body = served.get(self.path)
            self.send_response(200 if body is not None else 404)
            self.send_header("Content-Type", KIND)
            self.send_header("Cache-Control", "max-age=600")  # as real indexes say
            self.send_header("Content-Length", str(len(body or b"")))
            self.end_headers()
            self.wfile.write(body or b"")

        def log_message(self, *_: object) -> None:
            """Nothing is printed."""

    class Server(ThreadingHTTPServer):
        request_queue_size = 128
        daemon_threads = True

    server = Server(("127.0.0.1", 0), Handler)
    origin = f"http://127.0.0.1:{server.server_port}"
    served.update(pages(origin))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    told.send((f"{origin}/simple/", sum(page.count(b'"filename"') for page in served.values())))
    told.recv()


def main() -> None:
    """Print all figures."""
    before = program_before(__doc__)
    with (
        tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder,
        serving(serve) as ((address, files), _),
    ):
        benches = []
        for program in (PROGRAM, *([before] if before else [])):
            folder = Path(holder) / str(len(benches))
            folder.mkdir()
            bench = Bench(folder, address, [name_of(number) for number in range(LIBRARIES)])
            bench.declare('targets = ["linux-x86_64", "macos-arm64", "windows-x86_64"]')
            benches.append((bench, partial(bench.resolve, program)))
        title = f"{LIBRARIES} libraries, {files} files"
        print(
            f"{title:<58} {'before':>8} {'ms':>8} {'ratio':>6}  aim" if before else f"{title:<58} {'ms':>8}"
        )
        for kind in ("cold", "warm"):

            def work(bench: Bench, resolve: Callable[[], None], kind: str = kind) -> None:
                if kind == "warm":
                    (bench.project / "pylock.toml").unlink(missing_ok=True)
                resolve()

            def forget(kind: str = kind) -> None:
                for bench, _ in benches if kind == "cold" else ():
                    bench.forget()

            now, *earlier = compared(
                *(partial(work, *benche) for benche in benches), before=forget, rounds=ROUNDS
            )
            for process in earlier:
                line(f"{kind}, three targets: before | now", process, now, ">= 1.5")
            if not earlier:
                print(f"{f'{kind}, three targets':<58} {now * 1000:>8.0f}")


if __name__ == "__main__":
    main()
