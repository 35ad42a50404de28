"""Catalogues of runtimes: their schema, which the documentation gives, and what is written."""

import json
import re
import unittest
from pathlib import Path

from jsonschema import Draft202012Validator

from rabbet.core.limits import MOST_FILES
from rabbet.demo.runtimes import shelf
from rabbet.formats.runtime_catalogue import NotACatalogue, catalogue_text, read_catalogue, with_offer

DOCS = Path(__file__).parents[2] / "docs"
ADDRESS = "https://apiary.example/runtimes/catalogue.json"
GOOD = shelf(["1.4", "2.1"])["catalogue.json"].decode()
FOLDER = ADDRESS.rpartition("/")[0]
SOURCE = (
    json.dumps(
        {
            **json.loads(GOOD),
            "runtimes": [
                {
                    "language": "waggle",
                    "version": "3.0",
                    "archives": [
                        {
                            "platform": "source",
                            "url": "waggle.tar.gz",
                            "program": "bin/waggle",
                            "sha256": "0" * 64,
                            "steps": [["make", "PREFIX={prefix}"]],
                            "system": ["gcc"],
                            "minutes": 2,
                        }
                    ],
                }
            ],
        },
        indent=2,
    )
    + "\n"
)
SPOILT_SOURCE = [
    ('"platform": "source"', '"platform": "linux-x86_64"'),
    ('"steps"', '"stages"'),
    ('"make",', '"",'),
    ('"minutes": 2', '"minutes": -2'),
    ('"minutes": 2', '"minutes": "2"'),
]
SPOILT = [
    ("catalogue/1", "catalogue/2"),
    ('"language": "waggle"', '"language": "Waggle!"'),
    (".tar.gz", ".rar"),
    ('"sha256": "', '"sha256": "x'),
    ('"size": ', '"size": -'),
    ('"program": "', '"program": "/'),
    ('"platform"', '"plattform"'),
]


class Schema(unittest.TestCase):
    """The schema and the reader agree."""

    def setUp(self) -> None:
        self.schema = Draft202012Validator(json.loads((DOCS / "catalogue.schema.json").read_text()))

    def test_good(self) -> None:
        """The documentation's example and the demo's catalogue are valid, and read."""
        text = (DOCS / "reference" / "catalogues-and-languages.md").read_text()
        example = next(re.finditer(r"```json\n(.*?)```", text, re.DOTALL)).group(1)
        for content in (example, GOOD, SOURCE):
            self.schema.validate(json.loads(content))
            read_catalogue(content.encode(), ADDRESS)

    def test_spoilt(self) -> None:
        """What the schema refuses the reader refuses, too."""
        cases = [(GOOD.replace(old, new), new) for old, new in SPOILT]
        for spoilt, new in (*cases, *((SOURCE.replace(old, new), new) for old, new in SPOILT_SOURCE)):
            with self.subTest(new):
                self.assertFalse(self.schema.is_valid(json.loads(spoilt)))
                with self.assertRaises(NotACatalogue):
                    read_catalogue(spoilt.encode(), ADDRESS)

    def test_too_many(self) -> None:
        """A catalogue that offers more archives than there are is refused, in seconds."""
        content = json.loads(GOOD)
        runtime = content["runtimes"][0]
        runtime["archives"] = runtime["archives"][:1] * (MOST_FILES + 1)
        with self.assertRaisesRegex(NotACatalogue, "more than"):
            read_catalogue(json.dumps(content).encode(), ADDRESS)

    def test_written(self) -> None:
        """What is written is what was read; an archive for the same platform takes the other's place."""
        offers = read_catalogue(GOOD.encode(), ADDRESS)
        for some in (offers, with_offer(offers, offers[0]), with_offer(offers[1:], offers[0])):
            self.assertEqual(catalogue_text(some, FOLDER), GOOD)
        elsewhere = read_catalogue(catalogue_text(offers).encode(), "https://other.example/c.json")
        self.assertEqual([offer.archives for offer in elsewhere], [offer.archives for offer in offers])
        self.assertEqual(catalogue_text(read_catalogue(SOURCE.encode(), ADDRESS), FOLDER), SOURCE)
