"""The census as a picture and as a page: made for few machines and for many, the page driven in a browser."""

import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from rabbet.core.census.matrix import MachineState, Matrix, matrix_of, reordered
from rabbet.core.model.finding import Finding, Kind, Subject, Weight
from rabbet.team.figure import drawn
from rabbet.team.sheet import Cell, Column, Line, Sheet, order_by_likeness, page

MARKUP = "<img src=x onerror=\"document.title='owned'\">$\\x\x1b[31m"
CHROMIUM, DRIVER = shutil.which("chromium"), shutil.which("chromedriver")
OPTIONS = (
    *("--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"),
    *("--disable-background-networking", "--disable-component-update", "--disable-sync"),
)


def sheet(columns: int, lines: int) -> Sheet:
    """A made-up census; the last library and the last machine have names that are markup."""
    names = [*(f"hive{number}" for number in range(lines - 1)), MARKUP]
    labels = [*(f"skep-{number}" for number in range(columns - 1)), MARKUP]
    weights = ("breaks", "differs", "")
    return Sheet(
        title="hivescale: the machines",
        outcome="some differ",
        legend="! breaks",
        columns=tuple(
            Column(name=f"G{number}", labels=(label,), text="as locked", mend="rabbet recreate")
            for number, label in enumerate(labels)
        ),
        lines=tuple(
            Line(
                name=name,
                breaking=number % 3,
                differing=1,
                cells=tuple(
                    Cell(text="1.5 !", weight=weights[(number + one) % 3], detail=f"{name} is {one}")
                    for one in range(columns)
                ),
            )
            for number, name in enumerate(names)
        ),
        doubts=(MARKUP,),
    )


class Drawn(unittest.TestCase):
    """Pictures and pages."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="rabbet-test-")
        self.addCleanup(holder.cleanup)
        self.root = Path(holder.name)

    def test_picture(self) -> None:
        """A PNG file, larger for more machines, and never larger than anybody can look at."""
        sizes = []
        for columns, lines in ((1, 1), (5, 8), (500, 300)):
            head = drawn(sheet(columns, lines))[:24]
            self.assertEqual(head[:8], b"\x89PNG\r\n\x1a\n")
            sizes.append((int.from_bytes(head[16:20]), int.from_bytes(head[20:24])))
        self.assertEqual(sizes, sorted(sizes))
        self.assertLess(max(sizes[-1]), 4000)

    def test_page_is_text(self) -> None:
        """Whatever names hold is text, nothing is loaded, and the page says so to the browser."""
        text = page(sheet(3, 3))
        self.assertNotIn("<img", text)
        self.assertNotIn("http", text.replace("http-equiv", ""))
        self.assertIn("default-src 'none'", text)

    def test_without_the_extra(self) -> None:
        """What draws is loaded when it is asked for, and its absence is told with the way out."""
        code = (
            "import sys; sys.modules['matplotlib'] = sys.modules['jinja2'] = sys.modules['scipy'] = None\n"
            "from rabbet.team.extra import needing_extra\nfrom rabbet.team import figure, sheet\n"
            "with needing_extra('a page'):\n    sheet.page(None)\n"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
        self.assertIn("a page needs jinja2", done.stderr)

    def test_order(self) -> None:
        """Machines that are alike stand side by side; those as locked come first."""

        def state(label: str, *names: str) -> MachineState:
            subjects = map(Subject.library, names)
            findings = (
                Finding(kind=Kind.SURPLUS, subject=subject, weight=Weight.DIFFERS) for subject in subjects
            )
            return MachineState(label=label, recorded=0, findings=tuple(findings))

        states = [
            state("a", "x", "y"),
            state("b", "p", "q"),
            state("c"),
            state("d", "x", "z"),
            state("e", "p", "r"),
        ]
        matrix = matrix_of(states)
        ordered: Matrix = reordered(matrix, order_by_likeness(matrix))
        labels = "".join(group.labels[0] for group in ordered.groups)
        self.assertEqual(labels[0], "c")
        self.assertIn("ad", labels + labels[::-1])
        self.assertIn("be", labels + labels[::-1])
        self.assertEqual([group.name for group in ordered.groups], list("ABCDE"))
        cells = {row.name: [cell is not None for cell in row.cells] for row in ordered.rows}
        self.assertEqual(cells["x"], [label in "ad" for label in labels])

    @unittest.skipUnless(CHROMIUM and DRIVER, "chromium and chromedriver, of Debian's packages, are not here")
    def test_browser(self) -> None:
        """Filtered, sorted, and told in words by the keyboard alone."""
        from selenium import webdriver
        from selenium.webdriver.chrome.service import Service
        from selenium.webdriver.common.keys import Keys

        options = webdriver.ChromeOptions()
        options.binary_location = str(CHROMIUM)
        for option in (*OPTIONS, f"--user-data-dir={self.root / 'profile'}"):
            options.add_argument(option)
        path = self.root / "census.html"
        path.write_text(page(sheet(40, 30)))
        with webdriver.Chrome(options=options, service=Service(str(DRIVER))) as browser:
            find = browser.find_element
            shown = lambda: [row.get_attribute("data-name") for row in rows() if row.is_displayed()]  # noqa: E731
            rows = lambda: browser.find_elements("css selector", "tbody tr")  # noqa: E731
            browser.get(path.as_uri())
            self.assertEqual(browser.title, "hivescale: the machines")
            find("id", "filter").send_keys("hive7")
            self.assertEqual(shown(), ["hive7"])
            find("id", "filter").clear()
            find("id", "filter").send_keys("skep-12")
            self.assertEqual(len(shown()), 30)
            heads = browser.find_elements("css selector", "thead th[data-labels]")
            self.assertEqual(sum(head.is_displayed() for head in heads), 1)
            find("id", "filter").send_keys(Keys.CONTROL, "a", Keys.DELETE)
            find("id", "breaking").send_keys(Keys.SPACE)
            self.assertEqual(len(shown()), 20)
            find("css selector", "[data-sort=breaking]").send_keys(Keys.ENTER)
            self.assertTrue(all(int(row.get_attribute("data-breaking")) == 2 for row in rows()[:10]))
            find("css selector", "[data-sort=name]").send_keys(Keys.ARROW_DOWN)
            find("css selector", "tbody td button").send_keys(Keys.ARROW_RIGHT, Keys.ARROW_DOWN)
            browser.switch_to.active_element.send_keys(Keys.ENTER)
            self.assertRegex(find("id", "details").text, r"on skep-\d+\nhive\d+ is \d+")
