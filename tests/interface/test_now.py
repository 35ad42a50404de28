"""One step as the habit: `--now` on the commands that lead to it, and the rule in the settings."""

from rabbet.demo.stand_in import StandIn
from tests.support.program import ProgramCase


class Now(ProgramCase):
    """Stories."""

    def setUp(self) -> None:
        super().setUp()
        self.index = self.serve(StandIn())
        self.settings = self.root / "home" / "config" / "rabbet" / "settings.toml"

    def test_begin(self) -> None:
        """From nothing to an environment; where that fails, nothing was begun."""
        given = ["--name", "hivescale", "--runtime", "python>=3.8", "--source", self.index.address]
        self.rabbet("begin", *given, "skepio>9", "--now", code=4)
        self.assertEqual(self.tree(), {})
        self.rabbet("begin", *given, "nectarplot", "--now")
        self.assertIn("nectarplot", self.installed())
        self.assertTrue(self.rabbet("begin", *given[:2], "--now").out.endswith("\n"))

    def test_resolve(self) -> None:
        """The lock, then the environment, each library told once; the lock goes back where that fails."""
        self.begin(self.index.address, "nectarplot")
        found = self.rabbet("resolve", "--now", "--json").json()
        self.assertEqual(len(found["resolve"]["moves"]), len(found["recreate"]["steps"]))
        self.rabbet("declare", "skepio")
        self.assertNotRegex(self.rabbet("resolve", "--now").out, "(?m)^add ")
        before = self.tree("pylock.toml")
        self.rabbet("declare", "pollencsv")
        (self.project / ".venv").rename(self.root / "old")
        (self.project / ".venv").mkdir()
        (self.project / ".venv" / "mine").write_text("")
        self.rabbet("resolve", "--now", code=7)
        self.assertEqual(self.tree("pylock.toml"), before)

    def test_run(self) -> None:
        """What is due is done first and told beside the output; a failure leaves all as it was."""
        self.begin(self.index.address, "nectarplot")
        where = ("run", "--now", "python", "-c", "import nectarplot; print('gold')")
        first = self.rabbet(*where)
        self.assertEqual(first.out, "gold\n")
        self.assertRegex(first.err, r"Locked 3 libraries .*\n.*3 added")
        again = self.rabbet(*where)
        self.assertNotIn("Locked", again.err)
        self.rabbet("declare", "nectarplot<2")
        self.assertIn("lowered", self.rabbet(*where).err)
        before = self.tree("pylock.toml")
        self.rabbet("declare", "skepio>9")
        self.rabbet(*where, code=4)
        self.assertEqual(self.tree("pylock.toml"), before)

    def test_rule(self) -> None:
        """`now = true` in the settings goes on by itself; `--not-now` and questions do not."""
        self.settings.parent.mkdir(parents=True)
        self.settings.write_text("now = true\n")
        self.begin(self.index.address, "nectarplot")
        self.assertIn("nectarplot", self.installed())
        self.rabbet("declare", "skepio", "--not-now")
        self.assertNotIn("skepio", self.locked())
        self.rabbet("resolve", "--plan")
        self.assertNotIn("skepio", self.locked())
        self.rabbet("run", "python", "-c", "import skepio")
        self.rabbet("retract", "skepio")
        self.assertNotIn("skepio", self.installed())
        self.settings.write_text("now = 'yes'\n")
        self.rabbet("run", "true", code=3)

    def test_plan(self) -> None:
        """What would be locked is told, and nothing is written; advice is for the declaration as it is."""
        self.begin(self.index.address, "nectarplot")
        self.rabbet("resolve", "--now")
        before = self.tree()
        found = self.rabbet("declare", "combframe<2", "--plan", "--json").json()
        moved = {move["name"]: move["after"] for move in found["resolve"]["moves"]}
        self.assertEqual(moved, {"combframe": "1.5", "nectarplot": "1.9"})
        self.assertNotIn("recreate", found)
        pinned = self.rabbet("declare", "pollencsv==99", "--plan", code=4).err
        self.assertIn("declare pollencsv==1.2 --plan\n", pinned)
        self.rabbet("retract", "nectarplot", "--plan")
        self.assertEqual(self.tree(), before)
        for option in ("--plan", "--now"):
            error = self.rabbet("declare", "skepio<0.1", option, code=4).err
            self.assertIn(f"declare 'skepio<=0.3' {option}\n", error)
            self.assertNotIn("retract", error)

    def test_source_for_all(self) -> None:
        """A source in the settings serves every project that declares none; the rest of the file stays."""
        self.settings.parent.mkdir(parents=True)
        self.settings.write_text("# mine\nshare-files = false\n")
        self.rabbet("begin", "--name", "hivescale", "--runtime", "python>=3.8", "nectarplot")
        self.assertIn("--for-all-projects", self.rabbet("resolve", code=5).err)
        self.rabbet("declare", "--source", "http://", "--for-all-projects", code=3)
        self.rabbet("declare", "--source", "main=../wheels", "--for-all-projects", code=2)
        self.rabbet("declare", "skepio", "--source", "../wheels", "--for-all-projects", code=2)
        self.rabbet("declare", "--source", "../wheels", "--for-all-projects")
        self.assertIn(f'source = "{self.project}/../wheels"', self.settings.read_text())
        self.rabbet("declare", "--source", self.index.address, "--for-all-projects", folder=self.root)
        self.assertTrue(self.settings.read_text().startswith("# mine\nshare-files = false\n"))
        self.rabbet("resolve")

    def test_offered(self) -> None:
        """Where work was here before, `adopt` is offered, by `begin` and by errors."""
        self.assertEqual(self.rabbet("status", code=2).err.count("rabbet adopt"), 0)
        (self.project / "requirements.txt").write_text("nectarplot\n")
        self.assertIn("try     rabbet adopt\n", self.rabbet("status", code=2).err)
        self.assertIn("(requirements.txt): rabbet adopt", self.rabbet("begin", "--yes").out)
