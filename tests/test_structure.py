"""The rules that hold the code together: layers, light start, commands, errors."""

import ast
import re
import subprocess
import sys
import unittest
from graphlib import TopologicalSorter
from importlib import import_module
from pathlib import Path
from pkgutil import walk_packages

import rabbet
from rabbet import errors
from rabbet.cli.parsers import parser_for
from rabbet.cli.registry import COMMANDS, HEADINGS

SOURCE = Path(rabbet.__file__).parent
# From the inside out, by the whole names of folders and modules, of which the longest counts: a module may
# import from its own layer and from those before it.
LAYERS = [
    "errors",
    "core",
    "disk",
    "work",
    "archives",
    "python.choosing",
    "python.code",
    "python.checks",
    "formats.text",
    "python.formats",
    "formats",
    "net",
    "store",
    "python.sources",
    "python.store",
    "runtimes",
    "python.environment",
    "python.compose",
    "python.builds",
    "team",
    "exports",
    "workspace",
    "resolving",
    "trials",
    "proving",
    "tasks",
    "documents",
    "api",
    "cli",
    "demo",
]
IMPURE = {
    "asyncio", "fileinput", "glob", "http", "io", "logging", "multiprocessing", "os", "pathlib",
    "random", "shutil", "socket", "sqlite3", "ssl", "subprocess", "sys", "tempfile", "threading", "time",
    "pycurl", "tomlkit", "urllib",
}  # fmt: skip


def imports(path: Path, *, whole: bool = False) -> set[str]:
    """The full names of all modules that a file imports, inside functions too.

    With the `whole` names, what is taken from a package may be a module of it.
    """
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path} imports relatively"
            found.add(node.module or "")
            found |= {f"{node.module}.{alias.name}" for alias in node.names} if whole else set()
    return found


def _literal(node: ast.expr) -> str:
    """A text as it is written, `rabbet` for what is put in; empty for what is no text."""
    if isinstance(node, ast.JoinedStr):
        return "".join(_literal(part) or "rabbet" for part in node.values)
    return node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else ""


def modules(folder: str = "") -> list[Path]:
    """The modules below a folder of the package (those inside made-up wheels are no modules of Rabbet)."""
    return [path for path in sorted((SOURCE / folder).rglob("*.py")) if "modules" not in path.parts]


def layer_of(name: str) -> int:
    """The number of a module's layer, by the longest name that it lies in."""
    places = [place for place in LAYERS if name == place or name.startswith(f"{place}.")]
    return LAYERS.index(max(places, key=len))


ENTRIES = (
    "machine.py",
    "main.py",
    "__main__.py",
    "supervisor.py",
    "hook_caller.py",
)  # the last two: of builds


class Structure(unittest.TestCase):
    """Checked over the code itself."""

    def test_arrows_point_inward(self) -> None:
        """No module imports from a layer outside its own; the demo's command is reached by name only."""
        for path in modules():
            own = ".".join(path.relative_to(SOURCE).with_suffix("").parts).removesuffix(".__init__")
            if own in ("__init__", "__main__", "python"):
                continue
            for name in imports(path):
                if name.startswith("rabbet."):
                    with self.subTest(module=own, imports=name):
                        self.assertLessEqual(layer_of(name.removeprefix("rabbet.")), layer_of(own))

    def test_folders(self) -> None:
        """None holds more than a dozen modules, and each says what it is for."""
        for folder in {path.parent for path in modules()}:
            with self.subTest(str(folder.relative_to(SOURCE))):
                held = [path for path in folder.glob("*.py") if path.name != "__init__.py"]
                self.assertLessEqual(len(held), 12)
                self.assertTrue(ast.get_docstring(ast.parse((folder / "__init__.py").read_text())))

    def test_no_circles(self) -> None:
        """No module needs itself by way of others, inside functions either."""
        paths = {
            ".".join(["rabbet", *path.relative_to(SOURCE).with_suffix("").parts]): path for path in modules()
        }
        paths = {name.removesuffix(".__init__"): path for name, path in paths.items()}
        needs = {
            name: {imported for imported in imports(path, whole=True) if imported in paths}
            for name, path in paths.items()
        }
        order = TopologicalSorter({name: found - {name} for name, found in needs.items()})
        self.assertEqual(len(list(order.static_order())), len(paths))

    def test_core_is_pure(self) -> None:
        """The core imports nothing that touches files, processes, the network, the clock or a terminal."""
        for path in modules("core"):
            with self.subTest(module=path.name):
                self.assertFalse({name.split(".")[0] for name in imports(path)} & IMPURE)

    def test_what_only_python_has(self) -> None:
        """What serves any language knows nothing of the wing; the core looks into no wheels and tags."""
        for room in ("core", "disk", "work", "archives", "net", "store", "team"):
            for path in modules(room):
                with self.subTest(module=str(path.relative_to(SOURCE))):
                    self.assertEqual([name for name in imports(path) if name.startswith("rabbet.python")], [])
        for path in modules("core"):
            if "model" not in path.parts:
                tree = ast.parse(path.read_text())
                names = {node.attr for node in ast.walk(tree) if isinstance(node, ast.Attribute)}
                with self.subTest(module=str(path.relative_to(SOURCE))):
                    self.assertFalse(names & {"tags", "wheels", "is_wheel", "site_packages", "wheel_sha256"})

    def test_only_the_machine_reads_the_world(self) -> None:
        """Environment variables and arguments are looked at where a program begins only."""
        for path in modules():
            text = path.read_text()
            if path.name not in ENTRIES:
                with self.subTest(module=path.name):
                    self.assertNotIn("os.environ", text)
                    self.assertNotIn("sys.argv", text)
                    self.assertNotIn("default_environment", text)
                    self.assertTrue("expanduser" not in text or path.parts[-2:] == ("disk", "named.py"))

    def test_git_is_started_at_one_place(self) -> None:
        """No other module names the program, so none forgets what keeps a clone's programs from running."""
        for path in modules():
            if path.parts[-2:] != ("git", "program.py"):
                with self.subTest(module=path.name):
                    self.assertNotRegex(path.read_text(), r"""\[["']git["'],""")

    def test_files_of_users_are_written_at_one_place(self) -> None:
        """Whoever knows a project writes through `disk/`, or into the store and its scratch folders."""
        for folder in ("exports", "team", "resolving", "tasks", "cli", "workspace", "trials", "compose"):
            for path in modules(folder):
                with self.subTest(module=path.name):
                    writing = r"\.(write_text|write_bytes|symlink_to|hardlink_to)\(|\.open\([\"'][wxa]"
                    self.assertNotRegex(path.read_text(), writing)

    def test_rabbet_is_started_at_one_place(self) -> None:
        """Nobody else writes down how, so no module of the folder where it starts is run in its place."""
        for path in modules():
            with self.subTest(module=path.name):
                self.assertNotRegex(path.read_text(), r"""["']-m["'], ["']rabbet["']""")

    def test_addresses_are_taken_apart_at_one_place(self) -> None:
        """No module but one knows the parts of an address, so none can keep what a user put into it."""
        for path in modules():
            if path.name != "address.py":
                with self.subTest(module=path.name):
                    self.assertNotRegex(path.read_text(), r"\burl(split|parse|join)\b")

    def test_names_are_normalized_where_text_is_read(self) -> None:
        """Requirements and names become `Need` and `NormalizedName` at the edge; nobody else parses them."""
        for path in modules():
            if path.parts[-2] != "needs":
                with self.subTest(module=path.name):
                    self.assertNotIn("canonicalize_name", path.read_text())
                    self.assertNotRegex(path.read_text(), r"import .*\bRequirement\b")

    def test_decoders_are_made_once(self) -> None:
        """What is read in several threads is read by decoders that were made at import.

        A decoder finds out about its type when it is made; several threads that do so at once crash msgspec.
        """
        for path in modules():
            tree = ast.parse(path.read_text())
            calls = [ast.unparse(node.func) for node in ast.walk(tree) if isinstance(node, ast.Call)]
            made = [
                node for node in tree.body if isinstance(node, ast.Assign) and "Decoder(" in ast.unparse(node)
            ]
            with self.subTest(path=path.name):
                self.assertEqual(
                    [], [call for call in calls if call in ("msgspec.json.decode", "msgspec.msgpack.decode")]
                )
                self.assertEqual(len(made), sum(call.endswith(".Decoder") for call in calls))

    def test_remedies_are_commands(self) -> None:
        """What stands behind `try` begins like a command, and holds no prose and no place to fill in."""
        programs = ("rabbet", "git", "cd", "exit", "mv", "cp", "cat", "env", "python3")
        for path in modules():
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.keyword) and node.arg == "remedy":
                    text = _literal(node.value)
                    with self.subTest(module=path.name, remedy=text):
                        self.assertIn((text.split() or ["rabbet"])[0], programs)
                        self.assertNotRegex(text, r"…| #|  \(|\b(?!HEAD|RABBET)[A-Z]{4,}")

    def test_exports_exist_and_are_sorted(self) -> None:
        """`__all__` names what is there, in order."""
        for module in walk_packages([str(SOURCE)], "rabbet."):
            if "modules" in module.name or module.name.endswith("__main__"):
                continue
            loaded = import_module(module.name)
            names = getattr(loaded, "__all__", [])
            with self.subTest(module.name):
                self.assertEqual(
                    sorted(names, key=lambda n: (not n.isupper(), n[0].islower(), n)), list(names)
                )
                self.assertTrue(all(hasattr(loaded, name) for name in names))

    def test_tasks_are_commands(self) -> None:
        """A module each; `follow` is part of `enter`; others are options, or kinds of exports."""
        names = {path.stem for path in modules("tasks")} - {"__init__"}
        commands = {name for name in COMMANDS if name != "demo"}
        beside = {"census_news", "keep", "kernels", "now", "script_folder"}
        self.assertEqual(names, {*commands, *beside} - {"completion", "follow"})

    def test_documents_name_what_there_is(self) -> None:
        """Each module, folder and name of a module in the pages for newcomers exists."""
        root, docs = SOURCE.parent.parent, SOURCE.parent.parent / "docs"
        rooms = {path.relative_to(SOURCE).parts[0].removesuffix(".py") for path in SOURCE.iterdir()}
        for page in (*docs.rglob("*.md"), root / "CONTRIBUTING.md", root / "README.md"):
            for text in re.findall(r"`([\w/.-]+)`", page.read_text()):
                place, _, name = text.removeprefix("src/rabbet/").partition(".")
                if "/" not in place or place.split("/")[0] not in rooms or "NAME" in text:
                    continue
                with self.subTest(page.name, text=text):
                    if name in ("py", "toml", "html", "txt", "sh", ""):
                        self.assertTrue((SOURCE / text.removeprefix("src/rabbet/")).exists())
                    else:
                        module = import_module(f"rabbet.{place.replace('/', '.')}")
                        self.assertTrue(hasattr(module, name.partition(".")[0]))

    def test_commands(self) -> None:
        """Each command stands under a heading, and its summary is the first line of its module."""
        for name, (heading, module, summary) in COMMANDS.items():
            with self.subTest(name):
                self.assertIn(heading, HEADINGS)
                first = (import_module(module).__doc__ or "").splitlines()[0]
                self.assertEqual(first.rstrip(".").lower(), summary.lower())

    def test_options_that_are_repeated(self) -> None:
        """Each value of an option counts, or a second one is an error: none replaces another in silence."""
        for name in COMMANDS:
            parser = parser_for(name)
            for action in parser._actions:
                if not action.option_strings or action.nargs == 0:
                    continue
                with self.subTest(name, option=action.option_strings[0]):
                    several = type(action).__name__ in ("_AppendAction", "_ExtendAction")
                    self.assertEqual(several, action.nargs is not None or isinstance(action.default, list))
                    self.assertEqual(not several, type(action).__name__ == "_Once")

    def test_errors(self) -> None:
        """Every failure stands in the documentation, below its exit code."""
        text = (SOURCE.parent.parent / "docs" / "reference" / "errors.md").read_text()
        for name in errors.__all__:
            kind = getattr(errors, name)
            if (
                isinstance(kind, type)
                and issubclass(kind, errors.RabbetError)
                and kind is not errors.RabbetError
            ):
                with self.subTest(name):
                    section = text.split(f"\n## Exit code {int(kind.exit_code)}\n")[-1].split("\n## ")[0]
                    self.assertIn(f"`{name}` |", section)

    def test_light_start(self) -> None:
        """Asking for the version or the help loads next to nothing."""
        for option in ("--version", "--help"):
            code = (
                "import sys; before = set(sys.modules); from rabbet.cli.main import main; "
                f"main(['{option}']); print(*sorted(set(sys.modules) - before), file=sys.stderr)"
            )
            done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
            loaded = set(done.stderr.split())
            with self.subTest(option):
                self.assertFalse(
                    loaded & {"dataclasses", "pathlib", "ssl", "json", "packaging", "subprocess"}
                )
                self.assertLessEqual(len([name for name in loaded if name.startswith("rabbet")]), 8)
                self.assertLessEqual(len(done.stdout.splitlines()), 24)
