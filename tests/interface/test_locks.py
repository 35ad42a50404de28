"""What the commands around a lock say: policies, verification, explanations, comparisons."""

import json
import sys
import tomllib
from collections.abc import Sequence
from itertools import product

from packaging.pylock import Pylock
from packaging.tags import parse_tag
from packaging.version import Version

from rabbet.demo.files import write_files
from rabbet.demo.libraries import RELEASES, MadeUp
from rabbet.demo.stand_in import StandIn
from rabbet.formats.pylock import read_lock
from rabbet.python.choosing.select import libraries_for
from rabbet.python.choosing.targets import named_target
from rabbet.store.layout import LAYOUT
from tests.support import chance
from tests.support.program import ProgramCase

HERE = f"{sys.version_info.major}.{sys.version_info.minor}"


class Locks(ProgramCase):
    """On the demo's libraries, each with one release every sixty days from January 10th, 2025."""

    def setUp(self) -> None:
        super().setUp()
        self.index = self.serve(StandIn())

    def moves(self, *options: str) -> dict[str, tuple[str | None, str | None, str]]:
        """What moved: before, after and why."""
        found = self.rabbet("resolve", "--json", *options).json()["moves"]
        return {entry["name"]: (entry["before"], entry["after"], entry["reason"]) for entry in found}

    def test_policies(self) -> None:
        """The lowest, the newest of a day, and everything raised again, each with its reason."""
        self.begin(self.index.address, "nectarplot>=2", "pollencsv")
        self.assertEqual(self.moves()["combframe"], (None, "2.1", "nectarplot 2.1 needs combframe>=2,<3"))
        lowest = "the lowest that is allowed"
        before = (self.project / "pylock.toml").read_text()
        self.assertEqual(self.moves("--lowest"), self.moves("--plan", "--lowest"))
        self.assertEqual((self.project / "pylock.toml").read_text(), before, "questions write nothing")
        self.assertEqual(
            self.moves("--lowest", "--keep"),
            {
                "nectarplot": ("2.1", "2.0", lowest),
                "pollencsv": ("1.2", "1.0", lowest),
                "smokerlog": ("2.0", None, "no longer needed"),
            },
        )
        then = "the newest on 2025-05-11"
        found = self.moves("--as-of", "2025-05-11", "--keep")
        self.assertEqual(found["combframe"], ("2.1", "2.0", then))
        self.assertEqual(found["pollencsv"], ("1.0", "1.2", then))
        told = self.rabbet("resolve", "--as-of", "2025-05-09", code=4).err
        self.assertIn(":\n  try     rabbet resolve\n", told)
        self.rabbet("resolve", "--as-of", "May", code=2)
        self.assertEqual(self.moves("--raise-all")["combframe"], ("2.0", "2.1", "raised on purpose"))

    def test_declared_date(self) -> None:
        """A declared date holds for every run until it is retracted; another one can be asked for once."""
        self.begin(self.index.address, "nectarplot>=2", "pollencsv")
        self.moves()
        self.rabbet("declare", "--as-of", "2025-05-11")
        entries = self.rabbet("declare", "--json").json()["entries"]
        self.assertIn({"what": "as-of", "entry": "2025-05-11"}, entries)
        late = "2.1 can't be used: uploaded on 2025-07-09, later than 2025-05-11"
        self.assertEqual(self.moves(), {"combframe": ("2.1", "2.0", late)})
        self.assertEqual(self.moves(), {})
        self.rabbet("resolve", "--verify")
        explained = self.rabbet("explain", "combframe", "--json").json()["held_back"]
        self.assertEqual((explained["newest"], len(explained["out_of_reach"])), ("2.0", 1))
        offers = self.rabbet("lookup", "combframe==2.1", "--json").json()["releases"]
        self.assertEqual(offers[0]["refused"], late.partition(": ")[2])
        self.assertEqual(self.moves("--as-of", "2025-08-01", "--plan")["combframe"][1], "2.1")
        self.rabbet("declare", "--as-of", "May", code=3)
        self.rabbet("declare", "--as-of", "2025-05-09")
        told = self.rabbet("resolve", code=4).err
        self.assertIn("  try     rabbet retract --as-of && rabbet resolve\n", told)
        self.rabbet("retract", "--as-of")
        self.assertEqual(self.moves(), {})
        self.rabbet("retract", "--as-of", code=2)

    def test_moves_of_others(self) -> None:
        """When one library is changed, those that move with it say whose requirement made them."""
        self.begin(self.index.address, "nectarplot<2", "combframe<2")
        self.rabbet("resolve")
        self.rabbet("declare", "--exactly", "nectarplot>=2", "combframe")
        self.assertEqual(
            self.moves(),
            {
                "combframe": ("1.5", "2.1", "nectarplot 2.1 needs combframe>=2,<3"),
                "nectarplot": ("1.9", "2.1", "hivescale needs nectarplot>=2"),
            },
        )

    def test_verify(self) -> None:
        """Yes for what was just resolved; no, with reasons and nothing written, after any other change."""
        self.begin(self.index.address, "pollencsv<1.2")
        self.rabbet("resolve")
        self.assertTrue(self.rabbet("resolve", "--verify", "--json").json()["verified"])
        lock = self.project / "pylock.toml"
        text = lock.read_text()
        raised = text.replace('pollencsv"\nversion = "1.1"', 'pollencsv"\nversion = "1.2"')
        spoilt = {
            raised.replace("pollencsv-1.1-", "pollencsv-1.2-"): [("pollencsv", "1.2", "1.1")],
            text.replace('requires-python = ">=3.8"', "", 1): [],
        }
        for changed, moves in spoilt.items():
            lock.write_text(changed)
            found = self.rabbet("resolve", "--verify", "--json", code=1).json()
            told = [(move["name"], move["before"], move["after"]) for move in found["moves"]]
            self.assertEqual((found["verified"], told), (False, moves))
            self.assertEqual(lock.read_text(), changed)
        lock.write_text(text)
        self.rabbet("declare", "skepio")
        reasons = self.rabbet("resolve", "--verify", "--json", code=1).json()["reasons"]
        self.assertIn("skepio 0.4", reasons[1])

    def test_unchanged(self) -> None:
        """A repeated run knows at once that nothing is to be done, and any change makes it look again."""
        self.begin(self.index.address, "pollencsv")
        path, lock = self.project / "pyproject.toml", self.project / "pylock.toml"
        path.write_text(path.read_text() + "[tool.rabbet.variants.old]\nrequirements = ['combframe<2']\n")
        self.rabbet("resolve")
        told = [self.rabbet("resolve", "--quiet") for _ in range(3)]
        self.assertEqual({(outcome.out, outcome.err) for outcome in told}, {(told[0].out, "")})
        self.assertEqual(told[0].out.count("is up to date"), 2)
        kept = [*(self.root / "store" / LAYOUT / "unchanged").iterdir()]
        self.assertEqual(len(kept), 2, "the result, and the facts of the declaration")
        for note in kept:
            note.write_bytes(b"\xff damaged")
            self.assertEqual(self.rabbet("resolve").out, told[0].out)
        good = lock.read_text()
        for title, (file, text) in {
            "the lock": (lock, good.replace("'linux'", "'beehive'")),
            "a variant's lock": (self.project / "pylock.old.toml", ""),
            "the declaration": (path, path.read_text().replace('"pollencsv"', '"pollencsv<1.2"')),
        }.items():
            with self.subTest(title):
                self.assertIn("up to date", self.rabbet("resolve").out)
                if text:
                    file.write_text(text)
                else:
                    file.unlink()
                self.assertNotEqual(self.rabbet("resolve").out, told[0].out)

    def test_broken_releases_are_noted(self) -> None:
        """A release whose metadata can't be read is passed over with a note, and does not end the command."""
        broken = MadeUp(name="combframe", version="2.2", needs=("tallywax >",))
        mislabelled = MadeUp(name="tallywax", version="1.3", told_version="1.4")
        index = self.serve(StandIn([*RELEASES, broken, mislabelled]))
        self.begin(index.address, "nectarplot")
        passed = self.rabbet("resolve", "--json").json()["passed_over"]
        self.assertEqual([line.split(":")[0] for line in passed], ["combframe 2.2", "tallywax 1.3"])
        self.assertEqual((self.locked()["combframe"], self.locked()["tallywax"]), ("2.1", "1.2"))

    def test_sources_in_order(self) -> None:
        """The first source that knows a library gives it, unless another claims it; risks are told once."""
        own = [
            release
            for release in RELEASES
            if release.name in ("combframe", "tallywax") and release.version < "2.1"
        ]
        write_files(self.root / "wheels", own)
        self.begin("../wheels", "nectarplot>=2", "pollencsv")
        path = self.project / "pyproject.toml"
        declared = (
            path.read_text() + f'\n[[tool.rabbet.sources]]\nname = "public"\nurl = "{self.index.address}"\n'
        )
        path.write_text(declared)
        known = self.rabbet("resolve", "--json").json()["also_known"]
        self.assertTrue(any("combframe" in line and "public" in line for line in known), known)
        self.assertEqual(self.locked()["combframe"], "2.0")
        self.rabbet("declare", "skepio")
        self.assertEqual(self.rabbet("resolve", "--json").json()["also_known"], [])
        path.write_text(declared.replace('url = "../wheels"', 'url = "../wheels"\nonly = ["tally*"]'))
        self.assertEqual(self.rabbet("resolve", "--raise-all", "--json").json()["also_known"], [])
        self.assertEqual(self.locked()["combframe"], "2.1")
        lock = tomllib.loads((self.project / "pylock.toml").read_text())
        local = {package["name"] for package in lock["packages"] if "path" in package["wheels"][0]}
        self.assertEqual(local, {"tallywax"})

    def test_one_lock_for_the_team(self) -> None:
        """Several systems and runtimes in one lock; the standard reader installs the right set for each."""
        here = f"{self.runtime().major}.{self.runtime().minor}"
        pythons = sorted({here, "3.12", "3.13"}, key=Version)
        self.begin(
            self.index.address, "smokerlog", "broodcount", f"skepio; python_version == '{pythons[-1]}'"
        )
        path = self.project / "pyproject.toml"
        text = path.read_text()
        platforms = ["linux-aarch64", "linux-x86_64", "macos-arm64", "macos-x86_64", "windows-x86_64"]
        path.write_text(f"{text}\n[tool.rabbet]\ntargets = {platforms}\npythons = {pythons}\n")
        self.rabbet("resolve", "--raise-all")
        first = (self.project / "pylock.toml").read_text()
        lock = Pylock.from_dict(tomllib.loads(first))
        lock.validate()
        self.assertEqual(len(lock.environments or ()), len(platforms) * len(pythons))
        markers = {package.name: str(package.marker) for package in lock.packages}
        self.assertEqual(markers["smokerlog"], "None")
        self.assertEqual(markers["queenmark"], 'sys_platform == "win32"')
        self.assertEqual(markers["skepio"], f'python_version == "{pythons[-1]}"')
        for platform in platforms:
            for python in pythons:
                with self.subTest(platform, python=python):
                    target = named_target(platform, python, {})
                    tags = [tag for text in target.tags for tag in parse_tag(text)]
                    chosen = {one.name for one, _ in lock.select(environment=dict(target.markers), tags=tags)}
                    expected = {"smokerlog", "broodcount"}
                    expected |= {"queenmark"} if platform.startswith("windows") else set()
                    expected |= {"skepio", "hivewire", "tallywax"} if python == pythons[-1] else set()
                    self.assertEqual(chosen, expected)
        turned = f"[tool.rabbet]\npythons = {pythons[::-1]}\ntargets = {platforms[::-1]}\n"
        path.write_text(f"{text}\n{turned}")
        self.rabbet("resolve", "--raise-all")
        self.assertEqual((self.project / "pylock.toml").read_text(), first, "the order does not matter")
        self.rabbet("recreate")
        self.rabbet("drift")
        only_there = "\"queenmark>=9; sys_platform == 'darwin'\""
        path.write_text(path.read_text().replace('"broodcount"', f'"broodcount", {only_there}'))
        self.assertIn("macos-arm64", self.rabbet("resolve", code=4).err)

    def test_range_of_pythons(self) -> None:
        """The lock serves all that the declared range allows, but for those without a solution, told once."""
        here, tag = sys.version_info.minor, f"cp3{sys.version_info.minor}"
        made = [
            MadeUp(name="tallywax", version="1.0", python=">=3.9", code=""),
            MadeUp(name="tallywax", version="1.1", python=f">=3.{here}", code=""),
            *(
                MadeUp(name="hivewire", version="1.0", tag=f"{each}-{each}-manylinux_2_17_x86_64", code="")
                for each in ("cp39", tag)
            ),
        ]
        write_files(self.root / "wheels", made)
        self.begin("../wheels", "tallywax", runtime="python>=3.9")
        found = self.rabbet("resolve", "--json").json()
        minors = {target["python"].partition(".")[2].partition(".")[0] for target in found["targets"]}
        self.assertEqual(minors, set(map(str, range(9, 15))))
        self.assertEqual(self.versions("tallywax"), ["1.0", "1.1"])
        self.rabbet("declare", "hivewire")
        left = self.rabbet("resolve", "--json").json()["left_out"]
        self.assertEqual(len(left), 4)
        self.assertTrue(all("hivewire" in reason for reason in left))
        self.assertEqual(len(tomllib.loads(self.lock_text())["environments"]), 2)
        self.assertTrue(self.rabbet("resolve", "--json").json()["untouched"])
        self.rabbet("resolve", "--verify")
        self.rabbet("recreate")
        self.rabbet("drift")
        for declared in ("python>=3.8", f"python>=3.{here},<3.20"):
            self.rabbet("declare", "--runtime", declared)
            self.rabbet("resolve", code=4 if declared.endswith("8") else 0)
        self.assertEqual(self.locked(), {"hivewire": "1.0", "tallywax": "1.1"})

    def versions(self, name: str) -> list[str]:
        """The locked versions of a library."""
        packages = tomllib.loads(self.lock_text())["packages"]
        return [package["version"] for package in packages if package["name"] == name]

    def lock_text(self) -> str:
        return (self.project / "pylock.toml").read_text()

    def test_raised_for_each_target(self) -> None:
        """A library that is raised gets the newest of each target, whatever others get; none falls below."""
        tags = {
            "linux-x86_64": "manylinux_2_17_x86_64",
            "macos-arm64": "macosx_11_0_arm64",
            "windows-x86_64": "win_amd64",
        }
        made = {
            "1.0": [*tags],
            "1.1": ["windows-x86_64"],
            "1.2": ["linux-x86_64", "macos-arm64"],
            "1.3": ["macos-arm64"],
        }
        write_files(
            self.root / "files",
            [
                MadeUp(name="wax", version=version, tag=f"py3-none-{tags[platform]}", code="x = 1\n")
                for version, platforms in made.items()
                for platform in platforms
            ],
        )
        expected = {
            platform: max(one for one, there in made.items() if platform in there) for platform in tags
        }
        for platforms in (list(tags), list(tags)[::-1]):
            with self.subTest(platforms):
                self.begin(str(self.root / "files"), "wax")
                path = self.project / "pyproject.toml"
                path.write_text(f"{path.read_text()}\n[tool.rabbet]\ntargets = {platforms}\n")
                self.rabbet("resolve")
                for _ in range(2):
                    self.rabbet("resolve", "--raise", "wax")
                    lock = Pylock.from_dict(tomllib.loads((self.project / "pylock.toml").read_text()))
                    for platform in tags:
                        target = named_target(platform, f"{self.runtime().major}.{self.runtime().minor}", {})
                        able = [tag for text in target.tags for tag in parse_tag(text)]
                        chosen = lock.select(environment=dict(target.markers), tags=able)
                        self.assertEqual(
                            [str(release.version) for release, _ in chosen], [expected[platform]]
                        )
                path.unlink()

    @staticmethod
    def runtime() -> Version:
        """The version of the interpreter that runs the tests, and that the project gets."""
        return Version(".".join(str(part) for part in sys.version_info[:3]))

    def test_lookup(self) -> None:
        """Every release with its day, needs and systems, what is locked, allowed, yanked; near names else."""
        self.begin(self.index.address, "hivewire", "combframe<2.1")
        self.rabbet("resolve")
        found = self.rabbet("lookup", "hivewire", "--json").json()["releases"]
        self.assertEqual(
            [(entry["version"], entry["uploaded"], entry["yanked"], entry["locked"]) for entry in found],
            [
                ("2.2", "2025-05-10", "drops every third frame", False),
                ("2.1", "2025-03-11", None, True),
                ("2.0", "2025-01-10", None, False),
            ],
        )
        found = self.rabbet("lookup", "CombFrame", "--json").json()["releases"]
        self.assertEqual([entry["version"] for entry in found if entry["allowed"]], ["2.0", "1.5", "1.4"])
        found = self.rabbet("lookup", "broodcount", "--json").json()["releases"]
        self.assertEqual((found[0]["version"], found[0]["systems"]), ("1.2", ["macos"]))
        found = self.rabbet("lookup", "skepio", "--json").json()["releases"]
        self.assertTrue(any("Python >=3.99" in (entry["refused"] or "") for entry in found))
        self.assertIn("near names: combframe", self.rabbet("lookup", "combfrane", code=4).err)
        for need, number in (("hivewire>=2", 3), ("hivewire>=99", 0)):
            self.assertEqual(len(self.rabbet("lookup", need, "--json").json()["releases"]), number)

    def test_lookup_for_the_team(self) -> None:
        """Which of the declared targets have a wheel: all, all but some, some, those of one Python."""
        tags = {"1.3": "py3-none-win_amd64", "1.4": "cp311-cp311-win_amd64", "1.5": "cp312-none-any"}
        more = [MadeUp(name="broodcount", version=version, tag=tag) for version, tag in tags.items()]
        index = self.serve(StandIn([*RELEASES, *more, MadeUp(name="broodcount", version="1.6", sdist=True)]))
        self.begin(index.address, "broodcount<1.5")
        path = self.project / "pyproject.toml"
        platforms = ["linux-x86_64", "linux-x86_64-musl", "windows-x86_64"]
        path.write_text(
            f"{path.read_text()}[tool.rabbet]\ntargets = {platforms}\npythons = ['3.11', '3.12']\n"
        )
        table = self.rabbet("lookup", "broodcount").out
        for line in (
            r"1.6 .* no target +only a source archive, which may not be built",
            r"1.5 .* Python 3.12 +not allowed by the declaration",
            r"1.4 .* windows-x86_64 \(3.11\)$",
            r"1.3 .* windows-x86_64$",
            r"1.2 .* no target +no wheel for ",
            r"1.1 .* all 6 targets$",
        ):
            self.assertRegex(table, f"(?m)^{line}")
        found = self.rabbet("lookup", "broodcount", "--json").json()
        self.assertEqual(len(found["targets"]), 6)
        self.assertEqual(
            found["releases"][3]["targets"], [target for target in found["targets"] if "windows" in target]
        )

    def test_pins_are_spoken_of_once(self) -> None:
        """A few exact pins get one remark, in the run that takes them in."""
        self.begin(self.index.address, "pollencsv==1.1")
        self.assertIn("Pinned by hand: pollencsv", self.rabbet("resolve").out)
        self.rabbet("declare", "skepio")
        self.assertNotIn("Pinned by hand", self.rabbet("resolve").out)

    def test_direct_addresses(self) -> None:
        """A wheel named by its address is locked, installed and marked as such, and all others bow to it."""
        write_files(self.root / "wheels")
        places = {
            "2.0": self.index.address.replace("simple", "files"),
            "2.1": f"{self.root.as_uri()}/wheels/",
        }
        for version, place in places.items():
            with self.subTest(place):
                (self.project / "pyproject.toml").unlink(missing_ok=True)
                url = f"{place}combframe-{version}-py3-none-any.whl"
                self.begin(self.index.address, "nectarplot", f"combframe @ {url}")
                self.rabbet("resolve", "--raise-all")
                self.assertEqual(self.locked()["combframe"], version)
                self.rabbet("recreate")
                self.rabbet("drift")
                origin = self.site / f"combframe-{version}.dist-info" / "direct_url.json"
                self.assertEqual(json.loads(origin.read_text())["url"], url)
        self.rabbet("declare", f"combframe @ {url.replace('combframe', 'skepio')}")
        self.assertIn("skepio", self.rabbet("resolve", code=3).err)

    def test_explain(self) -> None:
        """Paths, groups, and what holds a library back, each as it really is."""
        self.begin(self.index.address, "nectarplot[forecast]>=2", "pollencsv<1.2")
        self.rabbet("declare", "--group", "checks", "mitewatch", "broodcount<1.1")
        self.rabbet("resolve")
        tree = self.rabbet("explain", "--sizes").out
        self.assertRegex(tree, r"  combframe>=2,<3 +2\.1 +\d\.\d kB +\d\.\d kB\n")
        self.assertEqual(tree.count("tallywax"), 1)
        self.assertIn("group checks", tree)
        paths = self.rabbet("explain", "combframe", "--json").json()["paths"]
        needs = [" ".join(step["requirement"] for step in path) for path in paths]
        self.assertIn('nectarplot[forecast]>=2 honeyflow>=1.1; extra == "forecast" combframe>=2,<3', needs)
        self.assertIn("pollencsv<1.2 combframe>=1.4", needs)
        held = {
            library["name"]: library
            for library in self.rabbet("explain", "--held-back", "--json").json()["held_back"]
        }
        self.assertEqual(held["pollencsv"]["by"], ["hivescale needs pollencsv<1.2"])
        self.assertEqual(held["broodcount"]["by"], ["hivescale, group checks needs broodcount<1.1"])
        self.assertEqual(held["broodcount"]["out_of_reach"], [f"1.2: no wheel for {self.target()}"])
        one = self.rabbet("explain", "Brood_Count".replace("_", ""), "--json").json()
        self.assertEqual(one["groups"], ["checks"])
        self.assertEqual([len(path) for path in one["paths"]], [1, 2])
        self.rabbet("explain", "skepio", code=2)
        self.assertIsNone(self.rabbet("explain", "tallywax", "--json").json()["held_back"])

    def test_explain_tells_when_only_the_lock_holds(self) -> None:
        """A library that nobody holds back names the command that raises it."""
        self.begin(self.index.address, "pollencsv<1.2")
        self.rabbet("resolve")
        self.rabbet("declare", "--exactly", "pollencsv")
        self.rabbet("resolve")
        self.assertIn("rabbet resolve --raise pollencsv", self.rabbet("explain", "pollencsv").out)

    def test_no_target_holds_another_back(self) -> None:
        """Each target gets what it would get alone; if asked for, all get the same where they can."""
        platforms, pythons = ("linux-x86_64", "windows-x86_64"), ("3.8", HERE, "3.13")
        for seed in (3, 14, 15, 92):
            dice = chance.dice(seed)
            self.fresh()
            made = [
                MadeUp(
                    name=name,
                    version=f"{number}.0",
                    code="",
                    python=dice.choice([">=3.8", ">=3.8", ">=3.11", "<3.12", ">=3.12"]),
                    tag=dice.choice(["py3-none-any", "py3-none-any", "py3-none-win_amd64"]),
                    needs=tuple(f"{other}{dice.choice(['', '<3', '>=2'])}" for other in others),
                )
                for name, others in (("hivewire", ["combframe"]), ("combframe", ["skepio"]), ("skepio", []))
                for number in range(1, 5)
            ]
            made += [
                MadeUp(name=name, version="0.1", code="") for name in ("hivewire", "combframe", "skepio")
            ]
            write_files(self.root / "wheels", made)
            alone = {}
            for platform, python in product(platforms, pythons):
                self.serve_targets([platform], sorted({python, HERE}))  # one has to be on this machine
                self.rabbet("resolve")
                alone[platform, python] = self.chosen_for(platform, python)
                (self.project / "pylock.toml").unlink()
            self.serve_targets(platforms, pythons)
            self.rabbet("resolve")
            lock = read_lock((self.project / "pylock.toml").read_text(), "pylock.toml")
            self.assertTrue(self.rabbet("resolve", "--json").json()["untouched"])
            self.rabbet("resolve", "--verify")
            for (platform, python), expected in alone.items():
                self.assertEqual(self.chosen_for(platform, python), expected, (seed, platform, python))
            fewer = self.project / "pylock.toml"
            fewer.unlink()
            self.rabbet("declare", "--newest", "same")
            self.rabbet("resolve")
            self.assertLessEqual(fewer.read_text().count("[[packages]]"), len(lock.libraries))
            self.rabbet("declare", "--newest", "each")
            self.rabbet("resolve", "--raise-all")
            again = read_lock(fewer.read_text(), "pylock.toml")
            self.assertEqual(again.libraries, lock.libraries)

    def test_elsewhere(self) -> None:
        """What other targets have of a library, and why it is no newer; also of one that is theirs alone."""
        releases = (
            ("1.0", ">=3.8", "py3-none-any"),
            ("2.0", ">=3.8", "py3-none-win_amd64"),
            ("3.0", "<3.8", "py3-none-any"),
        )
        needs = ("skepio; sys_platform == 'win32'",)
        made = [
            MadeUp(name="hivewire", version=version, python=python, tag=tag, needs=needs, code="")
            for version, python, tag in releases
        ]
        write_files(self.root / "wheels", [*made, MadeUp(name="skepio", version="1.0", code="")])
        self.serve_targets(["linux-x86_64", "windows-x86_64"], [HERE])
        file, lock = self.project / "pyproject.toml", self.project / "pylock.toml"
        grouped = file.read_text().replace(
            "dependencies =", "dependencies = []\n[dependency-groups]\nwires ="
        )
        for declaration in (grouped, file.read_text()):
            lock.unlink(missing_ok=True)
            file.write_text(declaration)
            told = self.rabbet("resolve").out
            self.assertRegex(told, r"hivewire +1\.0 .*, where sys_platform == 'linux'\n")
            self.assertRegex(told, r"hivewire +2\.0 .*, where sys_platform == 'win32'\n")
        found = self.rabbet("explain", "hivewire", "--json").json()
        (there,) = found["elsewhere"]
        self.assertEqual((found["version"], there["version"]), ("1.0", "2.0"))
        self.assertEqual(there["held_back"]["by"], ["hivewire 3.0 needs Python <3.8"])
        found = self.rabbet("explain", "skepio", "--json").json()
        self.assertEqual((found["version"], found["elsewhere"][0]["version"]), (None, "1.0"))

    def chosen_for(self, platform: str, python: str) -> set[tuple[str, str]]:
        """What the lock has for a target."""
        lock = read_lock((self.project / "pylock.toml").read_text(), "pylock.toml")
        chosen = libraries_for(lock, named_target(platform, python, {}), lock.everything)
        return {(release.name, str(release.version)) for release in chosen}

    def serve_targets(self, platforms: Sequence[str], pythons: Sequence[str]) -> None:
        """Declare `hivewire` for these targets."""
        (self.project / "pyproject.toml").write_text(
            '[project]\nname = "hivescale"\nversion = "1"\nrequires-python = ">=3.8"\n'
            f'dependencies = ["hivewire"]\n[tool.rabbet]\ntargets = {json.dumps(platforms)}\n'
            f"pythons = {json.dumps(pythons)}\n"
            '[[tool.rabbet.sources]]\nname = "wheels"\nurl = "../wheels"\n'
        )

    def test_merge(self) -> None:
        """After a merge that conflicts, the versions of both sides stay where they can, the newer of two."""
        self.begin(self.index.address, "smokerlog<2", "tallywax<1.1", "hivewire<2.1")
        self.rabbet("resolve")
        for command in (
            ["init", "--quiet", "--initial-branch=main"],
            ["add", "."],
            ["commit", "--message=1"],
        ):
            self.git(*command)
        sides = {
            "theirs": ["tallywax>=1.2", "queenmark<1.1"],
            "main": ["tallywax>=1.1,<1.2", "skepio<0.4"],
        }
        for branch, changes in sides.items():
            self.git("checkout", "--quiet", *(["-b"] if branch != "main" else []), branch)
            self.rabbet("declare", *changes)
            self.rabbet("resolve")
            self.git("commit", "--quiet", "--all", "--message", branch)
        ours = self.locked()
        self.git("-c", "merge.conflictStyle=diff3", "merge", "theirs", code=1)
        self.assertIn("<<<<<<<", (self.project / "pylock.toml").read_text())
        self.git("checkout", "--ours", "pyproject.toml")
        self.rabbet("declare", "--exactly", "tallywax", "queenmark", "skepio")
        self.rabbet("recreate", code=3)
        told = self.rabbet("resolve").out
        self.assertIn("unfinished merge", told)
        self.assertRegex(told, r"tallywax +1.1 +1.2 +the merged side has it")
        self.assertEqual(self.locked(), {**ours, "tallywax": "1.2", "queenmark": "1.0"})
        self.assertEqual(self.locked()["skepio"], "0.3", "skepio 0.4 exists, but neither side had it")
        merged = self.locked()
        path = self.project / "pylock.toml"  # merged by parts: neither side is a lock any more
        ours, theirs = 'name = "skepio"\nversion = "0.3"\n', 'name = "royal-jelly"\nversion = "1.0"\n'
        marked = f"<<<<<<< HEAD\n{theirs}=======\n{ours}>>>>>>> theirs\n"
        path.write_text(path.read_text().replace(ours, marked))
        self.rabbet("resolve")
        self.assertEqual(self.locked(), merged)
        for begun, without in (("[[packages]]", ""), ("lock-version", ""), ("", "lock-version")):
            text = path.read_text().replace(begun, f"<<<<<<< ours\n{begun}", 1)  # half mended by hand
            path.write_text(text.replace(without, f">>>>>>> theirs\n{without}", 1) if without else text)
            self.rabbet("resolve")
            self.assertEqual(self.locked(), merged)

    def test_extras_and_variants(self) -> None:
        """Extras share the versions of all others; each variant gets a lock of its own, in the same run."""
        self.begin(self.index.address, "pollencsv")
        self.rabbet("declare", "--extra", "plots", "nectarplot")
        self.rabbet("declare", "--group", "checks", "mitewatch", "hivescale[plots]")
        path = self.project / "pyproject.toml"
        path.write_text(path.read_text() + '[tool.rabbet.variants.old]\nrequirements = ["combframe<2"]\n')
        written = self.rabbet("resolve", "--json").json()
        self.assertEqual(len(written["libraries"]), 7)
        locks = {
            name: tomllib.loads((self.project / name).read_text())
            for name in ("pylock.toml", "pylock.old.toml")
        }
        found = {
            name: {package["name"]: package["version"] for package in lock["packages"]}
            for name, lock in locks.items()
        }
        self.assertEqual(
            (found["pylock.toml"]["combframe"], found["pylock.toml"]["nectarplot"]), ("2.1", "2.1")
        )
        self.assertEqual(
            found["pylock.old.toml"], {**found["pylock.toml"], "combframe": "1.5", "nectarplot": "1.9"}
        )
        for lock in locks.values():
            reader = Pylock.from_dict(lock)
            reader.validate()
            self.assertEqual([str(extra) for extra in reader.extras or ()], ["plots"])
            markers = {package.name: str(package.marker) for package in reader.packages}
            self.assertEqual(markers["nectarplot"], '"plots" in extras or "checks" in dependency_groups')
            self.assertEqual(markers["combframe"], "None")
        self.rabbet("resolve", "--verify")
        before = self.tree()
        self.assertTrue(self.rabbet("resolve", "--json").json()["variants"]["old"]["untouched"])
        path.write_text(path.read_text().replace("combframe<2", "combframe<1.5"))
        verdict = self.rabbet("resolve", "--verify", "--json", code=1).json()
        self.assertEqual((verdict["verified"], verdict["variants"]["old"]["verified"]), (True, False))
        variants = self.rabbet("resolve", "--json").json()["variants"]
        self.assertEqual([move["name"] for move in variants["old"]["moves"]], ["combframe"])
        self.assertEqual(
            (self.project / "pylock.toml").read_bytes(), before[str(self.project / "pylock.toml")]
        )

    def test_compare(self) -> None:
        """Between revisions and files: every difference with its cause, in three forms."""
        self.begin(self.index.address, "nectarplot>=2", "honeyflow")
        self.rabbet("resolve")
        old = self.root / "old.toml"
        old.write_bytes((self.project / "pylock.toml").read_bytes())
        for command in (["init", "--quiet"], ["add", "."], ["commit", "--quiet", "--message", "one"]):
            self.git(*command)
        self.rabbet("declare", "nectarplot<2", "skepio")
        self.rabbet("retract", "honeyflow")
        self.rabbet("resolve")
        found = self.rabbet("compare", "HEAD", "--json").json()["differences"]
        lowered = "declared: nectarplot>=2 → nectarplot<2"
        self.assertEqual(
            {entry["name"]: (entry["kind"], entry["cause"]) for entry in found},
            {
                "combframe": ("lowered", "nectarplot 1.9 needs combframe<2"),
                "hivewire": ("added", "skepio 0.4 needs hivewire>=2"),
                "honeyflow": ("removed", "retracted: honeyflow"),
                "nectarplot": ("lowered", lowered),
                "skepio": ("added", "declared: skepio"),
            },
        )
        self.assertIn(
            "| lowered | `combframe` | 2.1 | 1.5 |", self.rabbet("compare", "HEAD", "--markdown").out
        )
        by_file = self.rabbet("compare", str(old), "--json").json()["differences"]
        kinds = [(entry["kind"], entry["name"], entry["before"], entry["after"]) for entry in found]
        self.assertEqual([tuple(difference.values())[:4] for difference in by_file], kinds)
        causes = {difference["name"]: difference["cause"] for difference in by_file}
        self.assertEqual(causes["combframe"], "nectarplot 1.9 needs combframe<2")
        self.assertEqual(self.rabbet("compare", "HEAD", "HEAD", "--json").json()["differences"], [])
        self.rabbet("compare", "--", "-x", code=5)

    def target(self) -> str:
        """The target as messages name it."""
        document = self.rabbet("resolve", "--json").json()["targets"][0]
        return f"{document['platform']} with Python {'.'.join(document['python'].split('.')[:2])}"
