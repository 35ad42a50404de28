"""Inventories as files: valid by the official schema, and the same again when they are read."""

import json
import random
import unittest
from importlib.resources import files

from jsonschema import Draft7Validator
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.version import Version
from referencing import Registry, Resource

from rabbet.core.census.machine_inventory import MachineInventory
from rabbet.core.model.cause import Installation
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.lock import Selection
from rabbet.core.model.release import Metadata
from rabbet.core.needs.names import library_name
from rabbet.formats.cyclonedx import read_inventory_file, write_inventory_file
from tests.support import chance
from tests.support.catalogue import requirement

SCHEMAS = files("cyclonedx.schema") / "_res"
NAMES = ["combframe", "nectarplot", "skepio", "tally-wax", "x"]


def schema(name: str) -> dict:
    """One of the official schemas."""
    return json.loads((SCHEMAS / name).read_text())


def validator() -> Draft7Validator:
    """What holds a document against the schema of CycloneDX 1.6."""
    others = (
        "spdx.SNAPSHOT.schema.json",
        "jsf-0.82.SNAPSHOT.schema.json",
        "cryptography-defs.SNAPSHOT.schema.json",
    )
    resources = [
        (f"http://cyclonedx.org/schema/{name}", Resource.from_contents(schema(name))) for name in others
    ]
    return Draft7Validator(
        schema("bom-1.6.SNAPSHOT.schema.json"), registry=Registry().with_resources(resources)
    )


def any_library(dice: random.Random, name: str) -> Installed:
    """An installed library with whatever may be known of it."""
    version = Version(dice.choice(["1.0", "2.1.post1", "1!3.0rc1", "0.4+local.1"]))
    altered = tuple(dice.sample(["a.py", "b\n.py", "c.py"], dice.randint(0, 3)))
    needs = tuple(
        requirement(f"{other}>={dice.randint(0, 3)}") for other in dice.sample(NAMES, 2) if other != name
    )
    return Installed(
        name=library_name(name),
        version=version,
        folder="",
        metadata=Metadata(
            name=library_name(name),
            version=version,
            requires_python=SpecifierSet(),
            needs=needs,
            extras=frozenset(),
        ),
        wheel_sha256=dice.choice([None, "0" * 64]),
        build=dice.choice(["", "digest"]),
        altered=altered,
        gone=altered[-1:],
        installation=dice.choice([None, Installation(installer="handy", requested=dice.random() < 0.5)]),
    )


def any_machine(dice: random.Random) -> MachineInventory:
    """What some machine may have recorded."""
    names = dice.sample(NAMES, dice.randint(0, len(NAMES)))
    groups = dice.choice([None, frozenset(), frozenset({"checks", "docs"})])
    return MachineInventory(
        label="amber-skep-417",
        recorded=dice.randint(0, 2_000_000_000),
        project="hivescale",
        platform=dice.choice(["linux-x86_64", "macos-arm64"]),
        python=Version("3.11.2"),
        runtimes=dice.choice([{}, {"waggle": "2.1"}]),
        inventory=Inventory(
            python=Version("3.11.2"),
            implementation="cpython",
            libraries={library_name(name): any_library(dice, name) for name in names},
            strays=tuple(dice.sample(["lib/x.pth", "lib/\x1b[31m"], dice.randint(0, 2))),
            lock_stamp=dice.choice(["", "f" * 64]),
            selection=None if groups is None else Selection(groups, frozenset()),
        ),
    )


class CycloneDX(unittest.TestCase):
    """At random, with one seed."""

    def test_valid_and_the_same_again(self) -> None:
        dice, judge = chance.dice(17), validator()
        for _ in range(40):
            machine = any_machine(dice)
            digests = {name: {"a.py": "1" * 64} for name in machine.inventory.libraries}
            text = write_inventory_file(machine, "0.1.0", dice.choice([None, digests]))
            judge.validate(json.loads(text))
            again = read_inventory_file(text, "x.json")
            self.assertEqual(self.comparable(again), self.comparable(machine))

    @staticmethod
    def comparable(machine: MachineInventory) -> MachineInventory:
        """Libraries in one order, with their altered files in one."""
        libraries = {
            name: replace(library, altered=tuple(sorted(library.altered)))
            for name, library in sorted(machine.inventory.libraries.items())
        }
        return replace(machine, inventory=replace(machine.inventory, libraries=libraries))

    def test_strangers(self) -> None:
        """Of scans of whole systems the Python libraries count, each version of them."""
        components = [
            {"type": "library", "name": "x", "purl": "pkg:pypi/Comb_Frame@2.0?x=y#z"},
            {"type": "library", "name": "x", "purl": "pkg:pypi/comb-frame@1.0"},
            {"type": "library", "name": "x", "purl": "pkg:deb/debian/combframe@1:2"},
        ]
        found = read_inventory_file(
            json.dumps({"bomFormat": "CycloneDX", "components": components}), "a/scan.json"
        )
        self.assertEqual((found.label, found.python, found.recorded), ("scan", None, 0))
        self.assertEqual([str(library.version) for library in found.inventory.libraries.values()], ["2.0"])
        self.assertEqual(found.twice, (("comb-frame", Version("1.0")),))
