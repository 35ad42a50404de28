"""Take the pictures in `docs/screenshots`: the demo's project in a real terminal window, on a virtual screen.

Needs Debian's packages xvfb, xterm, imagemagick, fonts-dejavu-core and chromium. Run it by `make
screenshots`.
"""

import os
import shlex
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from msgspec.structs import replace

from rabbet.demo.advisories import RULES, lock_of_last_spring, put_records
from rabbet.demo.libraries import RELEASES
from rabbet.demo.machines import drag_along, edit_in_place, fall_behind, old_project, share
from rabbet.demo.play import add_to_declaration, make_buildable, write_checkout
from rabbet.demo.regression import SEASON, season_of_changes, season_that_works
from rabbet.demo.runtimes import LANGUAGE, shelf
from rabbet.demo.stage import Stage, prepare
from rabbet.demo.stand_in import StandIn

PICTURES = Path(__file__).resolve().parent.parent / "docs" / "screenshots"
SIZE = "1280x800"
DISPLAY = ":97"
FONT = ["-fa", "DejaVu Sans Mono", "-fs", "13", "-geometry", "116x36+0+0", "-bg", "#fdfaf2", "-fg", "#222222"]
TYPED = "hivescale"
UNSEEN = "unseen: "  # before a command that is not shown itself
TYPING = """
import os, pty, sys, time, select
child, terminal = pty.fork()
if child == 0:
    os.execvp("bash", ["bash", "--noprofile", "--rcfile", sys.argv[1], "-i"])

def shown(seconds):
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        if select.select([terminal], [], [], 0.1)[0]:
            os.write(1, os.read(terminal, 9999))

shown(1)
for keys in sys.argv[2:]:
    os.write(terminal, keys.encode().decode("unicode_escape").encode())
    shown(2)
os.write(1, b"\\n")
"""
ADOPTING = ("cat requirements.txt", "rabbet adopt --yes 2>/dev/null", "cat pyproject.toml")


def main() -> None:
    """Prepare the project step by step and take a picture of each main command."""
    screen = subprocess.Popen(
        ["Xvfb", DISPLAY, "-screen", "0", f"{SIZE}x24", "-ac"], stderr=subprocess.DEVNULL
    )
    try:
        served = {f"/runtimes/{name}": content for name, content in shelf(["1.4", "2.1"]).items()}
        with tempfile.TemporaryDirectory() as folder, StandIn([*RELEASES, *SEASON], more=served) as index:
            take_all(Path(folder) / TYPED, index.address)
    finally:
        screen.terminate()
        screen.wait()


def take_all(project: Path, address: str) -> None:
    """The pictures, in the order of the work."""
    project.mkdir()
    beside = {"RABBET_STORE": str(project.parent / "store"), "RABBET_STATE": str(project.parent / "state")}
    environment = {**os.environ, **beside, "DISPLAY": DISPLAY}
    # The system's own runtimes alone: what else this machine has is nobody's affair.
    environment["PATH"] = os.pathsep.join([str(Path(sys.executable).parent), "/usr/bin", "/bin"])
    environment["HOME"] = str(project.parent)

    def shoot(name: str, *commands: str) -> None:
        take(PICTURES / f"{name}.png", commands, project, environment)

    begin = ["rabbet", "begin", "--name", TYPED, "--runtime", "python>=3.11", "--source", address]
    subprocess.run(begin, cwd=project, env=environment, check=True, stdout=subprocess.DEVNULL)
    shoot(
        "declare",
        "rabbet declare 'nectarplot>=2' pollencsv",
        "rabbet declare --group checks mitewatch",
        "rabbet declare --target linux-x86_64 macos-arm64 windows-x86_64",
        "cat pyproject.toml",
    )
    shoot("resolve", "rabbet resolve", "rabbet resolve")
    shoot("recreate", "rabbet recreate --plan", "rabbet recreate", "rabbet run mitewatch", "rabbet recreate")
    shoot("status", "rabbet status", "rabbet envs", "rabbet store", "rabbet store check")
    take_carrying(project, environment)
    stage = Stage(project=project, address=address, variables=environment, output=sys.stdout)
    behind = project.parent / "extraction-room"
    fall_behind(stage, behind)
    drag_along(project)
    drift = "rabbet drift 2>/dev/null"
    take(
        PICTURES / "drift.png",
        (f"cd ../{behind.name} && {drift}", f"cd ../{TYPED} && {drift}"),
        project,
        environment,
    )
    subprocess.run(
        ["rabbet", "recreate"], cwd=project, env=environment, check=True, stdout=subprocess.DEVNULL
    )
    take_census(stage, project, behind, environment)
    old = project.parent / "old-hives"
    old.mkdir()
    old_project(old)
    take(PICTURES / "adopt.png", ADOPTING, old, environment)
    shoot("conflict", "rabbet declare swarmcast", "rabbet resolve", "rabbet retract swarmcast")
    shoot("explain", "rabbet explain --sizes", "rabbet explain broodcount", "rabbet lookup broodcount")
    shoot(
        "compare",
        "rabbet declare 'nectarplot<2' skepio",
        "rabbet resolve",
        "rabbet compare HEAD",
        "rabbet resolve --verify",
    )
    take_culprit(stage, environment)
    take_proofs(stage, environment)
    take_rules(stage, environment)
    add_to_declaration(project, LANGUAGE)
    catalogue = f"{address.removesuffix('simple/')}runtimes/catalogue.json"
    shoot(
        "runtimes",
        f"rabbet declare --runtime 'waggle>=2' --catalogue {catalogue}",
        "rabbet resolve --quiet | tail -4",
        "rabbet recreate --quiet < /dev/null",
        "rabbet recreate --obtain --quiet | tail -1",
        "rabbet run waggle --version | cut -c1-60",
        "rabbet explain waggle --quiet",
        "rabbet runtimes --only python waggle --quiet",
    )
    make_buildable(project)
    write_checkout(project.parent / "tallywax")
    shoot(
        "builds",
        "rabbet resolve --quiet | tail -1; rabbet recreate --quiet < /dev/null",
        "rabbet run hivescale",
        "rabbet declare --local tallywax ../tallywax | tail -1; rabbet resolve --quiet | head -2",
        "rabbet recreate --quiet < /dev/null",
        "rabbet run --try foragemap -- python -c 'import foragemap; print(foragemap.__version__)'",
    )
    (project / "tests").mkdir()
    (project / "tests" / "test_hives.py").write_text("import hivescale, smokerlog, honeycount\n")
    shoot("imports", "cat hivescale.py tests/test_hives.py", "rabbet imports --quiet")


def take_carrying(project: Path, environment: dict[str, str]) -> None:
    """The picture of what is taken along, and of a completion that somebody asks for by the tabulator."""
    typing = project.parent / "typing.py"
    typing.write_text(TYPING)
    completing = project.parent / "completing.bash"
    code = subprocess.run(["rabbet", "completion", "bash"], env=environment, check=True, capture_output=True)
    completing.write_bytes(code.stdout + b"\nPS1='$ '\n")
    keys = ["rabbet explain \t\t", "\x15rabbet recreate --gr\tc\t"]
    shown = (
        "rabbet carry --to ../carried --quiet",
        "rabbet carry --to ../carried --quiet | tail -2",
        "rabbet export list --quiet | head -5",
        f"{UNSEEN}{shlex.quote(sys.executable)} {typing} {completing} {' '.join(map(shlex.quote, keys))}",
    )
    take(PICTURES / "carry.png", shown, project, environment)


def take_culprit(stage: Stage, environment: dict[str, str]) -> None:
    """The picture of a search, and of what comes of doing what it says."""
    season = replace(stage, project=stage.project.parent / "season")
    season_of_changes(season)
    prepare(season, "recreate")
    shown = (
        "cat report.py",
        "rabbet run python report.py",
        "rabbet culprit --good git:HEAD --quiet -- python report.py",
        "rabbet declare --limit 'sealedbrood<1.4' --now --quiet | tail -1",
        "rabbet run python report.py",
    )
    take(PICTURES / "culprit.png", shown, season.project, environment)


def take_proofs(stage: Stage, environment: dict[str, str]) -> None:
    """The picture of a lock that is raised as far as a report works, and of all that works then."""
    harvest = replace(stage, project=stage.project.parent / "harvest")
    season_that_works(harvest)
    shown = (
        "rabbet prove --newest --yes --quiet -- python report.py | tail -14",
        "rabbet declare --limit 'sealedbrood<1.4' --quiet | tail -1; rabbet resolve --quiet",
        "rabbet prove --everywhere --quiet -- python report.py",
    )
    take(PICTURES / "prove.png", shown, harvest.project, environment)


def take_rules(stage: Stage, environment: dict[str, str]) -> None:
    """The picture of a vulnerability that appears, and of the lock that is mended."""
    ruled = replace(stage, project=stage.project.parent / "weighhouse")
    ruled.project.mkdir()
    lock_of_last_spring(ruled)
    add_to_declaration(ruled.project, RULES)
    (ruled.project / "advisories").mkdir()
    prepare(ruled, "resolve")
    put_records(ruled.project / "advisories")
    shown = (
        "rabbet run python -c 'print(1)'",
        "rabbet rules --quiet",
        "rabbet resolve --mend --yes --quiet",
    )
    take(PICTURES / "rules.png", shown, ruled.project, environment)


def take_census(stage: Stage, project: Path, behind: Path, environment: dict[str, str]) -> None:
    """The picture of four machines of the team, of which three differ."""
    office, stall = project.parent / "ci-runner", project.parent / "market-stall"
    for name in ("market-stall", "orchard-laptop"):
        subprocess.run(["git", "clone", "--quiet", str(behind), name], cwd=project.parent, check=True)
    laptop = project.parent / "orchard-laptop"
    for folder in (office, stall, laptop):
        prepare(replace(stage, project=folder), "recreate")
    drag_along(stall)
    edit_in_place(laptop)
    share(stage, [office, behind, stall, laptop], project.parent / "team.git")
    for folder in (office, behind, stall, laptop):
        prepare(replace(stage, project=folder), "census", "send", "--label", folder.name, "--remote", "team")
    shown = ("rabbet census collect --remote team --quiet", "rabbet census show --quiet")
    take(
        PICTURES / "census.png",
        (*shown, "rabbet census show --machine market-stall --quiet"),
        office,
        environment,
    )
    page = project.parent / "census.html"
    prepare(replace(stage, project=office), "census", "show", "--page", str(page))
    browser = ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-sync"]
    browser += [f"--user-data-dir={project.parent / 'browser'}", f"--window-size={SIZE.replace('x', ',')}"]
    command = [*browser, f"--screenshot={PICTURES / 'census-page.png'}", page.as_uri()]
    subprocess.run(command, env=environment, check=True, capture_output=True)


def take(picture: Path, commands: tuple[str, ...], project: Path, environment: dict[str, str]) -> None:
    """Play commands in a terminal window as if they were typed, and photograph the screen."""
    done = project.parent / "done"
    steps = [
        command.removeprefix(UNSEEN)
        if command.startswith(UNSEEN)
        else f"printf '%s\\n' {shlex.quote('$ ' + command)}; {command}; echo"
        for command in commands
    ]
    script = "; ".join(["clear", *steps, f"touch {shlex.quote(str(done))}", "sleep 60"])
    terminal = subprocess.Popen(["xterm", *FONT, "-e", "bash", "-c", script], cwd=project, env=environment)
    try:
        deadline = time.monotonic() + 60
        while not done.exists() and time.monotonic() < deadline:
            time.sleep(0.1)
        if not done.exists():
            raise SystemExit(f"{picture.name}: its commands wait for something")
        time.sleep(0.5)  # the window draws what was printed last
        subprocess.run(["import", "-window", "root", str(picture)], env=environment, check=True)
    finally:
        terminal.terminate()
        terminal.wait()
        done.unlink(missing_ok=True)


if __name__ == "__main__":
    main()
