"""Made-up records of vulnerabilities: the example's few, which it plays, and as many as a test wants."""

import json
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import NamedTuple

from msgspec.structs import replace

from rabbet.demo.stage import Stage, actor, prepare, say, show

__all__ = [
    "EXAMPLE",
    "MILD",
    "RULES",
    "SEVERE",
    "Flaw",
    "lock_of_last_spring",
    "many_records",
    "play_rules",
    "put_records",
    "record",
]

SEVERE = "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"  # 9.8
MILD = "CVSS:3.1/AV:L/AC:H/PR:L/UI:R/S:U/C:L/I:N/A:N"  # 2.2
_BEGAN = datetime(2026, 1, 1, tzinfo=UTC)


class Flaw(NamedTuple):
    """What is wrong with a library: in a sentence, how severe as a CVSS vector, and in which versions."""

    summary: str = "it believes what it reads"
    vector: str = SEVERE
    introduced: str = "0"
    fixed: str = ""


_PLAIN = Flaw()


def record(
    name: str,
    library: str,
    flaw: Flaw = _PLAIN,
    *,
    aliases: tuple[str, ...] = (),
    day: int = 0,
) -> bytes:
    """A record of the schema OSV about one library, published so many days into 2026."""
    when = f"{_BEGAN + timedelta(days=day):%Y-%m-%dT%H:%M:%SZ}"
    events = [{"introduced": flaw.introduced}] + ([{"fixed": flaw.fixed}] if flaw.fixed else [])
    content = {
        "schema_version": "1.7.0",
        "id": name,
        "modified": when,
        "published": when,
        "aliases": list(aliases),
        "summary": flaw.summary,
        "details": "Made up for the example. " * 40,
        "severity": [{"type": "CVSS_V3", "score": flaw.vector}],
        "affected": [
            {
                "package": {"ecosystem": "PyPI", "name": library},
                "ranges": [{"type": "ECOSYSTEM", "events": events}],
            }
        ],
    }
    return json.dumps(content, indent=1).encode()


_COMMANDS = Flaw("a prepared file of tallies runs commands", fixed="1.2")
EXAMPLE = {
    "HIVE-2026-0001.json": record("HIVE-2026-0001", "tallywax", _COMMANDS, aliases=("APIARY-7",), day=90),
    "APIARY-7.json": record("APIARY-7", "tallywax", _COMMANDS, aliases=("HIVE-2026-0001",), day=91),
    "HIVE-2026-0002.json": record(
        "HIVE-2026-0002", "pollencsv", Flaw("the length of a row can be guessed", MILD), day=120
    ),
}
"""The records of the example, by the names of their files: two of them are about the same."""


def many_records(count: int) -> Iterator[tuple[str, bytes]]:
    """So many records about made-up libraries, one in twenty of which lists its versions, by file name."""
    for number in range(count):
        library = f"hive-{number % (count // 3 + 1)}"
        versions = [f"1.{minor}" for minor in range(40)] if number % 20 == 0 else None
        content = record(
            f"MADE-2026-{number}",
            library,
            Flaw(
                vector=SEVERE if number % 2 else MILD,
                introduced=f"1.{number % 7}",
                fixed=f"2.{number % 11}",
            ),
            aliases=(f"UP-{number}",),
            day=number % 300,
        )
        if versions:
            told = json.loads(content)
            told["affected"][0]["versions"] = versions
            content = json.dumps(told).encode()
        yield f"MADE-2026-{number}.json", content


RULES = """\
[tool.rabbet.rules]
advisories = ["advisories"]
severity = 7
age = "14d"
stops = ["run"]
"""


def play_rules(stage: Stage) -> None:
    """A record appears for what is locked: it is noticed, mended, and once accepted."""
    folder = stage.project.parent / "weighhouse"
    folder.mkdir()
    stage = replace(stage, project=folder)
    act = actor(stage)
    lock_of_last_spring(stage)
    say(stage, "The weighhouse states what its lock may hold. In pyproject.toml:")
    with (folder / "pyproject.toml").open("a", encoding="utf-8") as file:
        file.write(f"\n{RULES}")
    show(stage, RULES)
    records = folder / "advisories"
    records.mkdir()
    act("resolve", "--quiet")
    act("rules", "--quiet")
    say(stage, "Overnight records of vulnerabilities appear, two of them about the same.")
    put_records(records)
    act("drift", "--quiet", expected=1)
    act("run", "python", "-c", "print('weighing')", expected=1)
    say(stage, "Who brought it, since when is it mended, and what are the fewest moves?")
    act("rules", "--quiet", expected=1)
    act("resolve", "--mend", "--yes", "--quiet")
    act("recreate", "--quiet")
    act("run", "python", "-c", "print('weighing')")
    say(stage, "The rules are stricter from now on; of the mild one the team knows that it does no harm.")
    declaration = folder / "pyproject.toml"
    text = declaration.read_text(encoding="utf-8")
    declaration.write_text(text.replace("severity = 7", "severity = 2"), encoding="utf-8")
    act("rules", "--quiet", expected=1)
    act("rules", "--accept", "HIVE-2026-0002", "--reason", "no secret rows", "--until", "2099-01-01")
    act("rules", "--quiet")


def lock_of_last_spring(stage: Stage) -> None:
    """A project with an environment, and a lock that holds an older tallywax than there is."""
    begin = ("begin", "--name", "weighhouse", "--runtime", "python>=3.11", "--source", stage.address)
    prepare(stage, *begin, "nectarplot>=2", "pollencsv")
    prepare(stage, "declare", "--limit", "tallywax<1.2", "--now")
    prepare(stage, "retract", "--limit", "tallywax")


def put_records(folder: Path) -> None:
    """Write the records of the example into a folder."""
    for name, content in EXAMPLE.items():
        (folder / name).write_bytes(content)
