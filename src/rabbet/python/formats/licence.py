"""The licence of a release as an SPDX expression, as far as its metadata tells it without ambiguity.

Metadata 2.4 has an expression of its own (PEP 639). Older metadata has a text and classifiers, many of which
stand for several licences: what is not certain is not told.
"""

import re

from rabbet.core.rules.judge import Licence
from rabbet.core.rules.licences import canonical
from rabbet.python.formats.metadata import MetadataBroken, header_text

__all__ = ["licence_in"]

_FIELD = re.compile(r"^(License(?:-Expression)?|Classifier):(.*(?:\n[ \t].*)*)", re.IGNORECASE | re.MULTILINE)

_LONGEST = 100  # characters of a text that may be a licence's name, and is not its text
_FAMILIES = (":: OSI Approved", ":: DFSG approved")  # which are no licences
_UNKNOWN = ("", "unknown", "none", "dual license", "other")
# Texts that people write for a licence, in lower case and without "license", commas and brackets.
_WRITTEN = {
    "mit": "MIT",
    "the mit": "MIT",
    "expat": "MIT",
    "apache 2": "Apache-2.0",
    "apache2.0": "Apache-2.0",
    "apache 2.0": "Apache-2.0",
    "apache version 2.0": "Apache-2.0",
    "apache software 2.0": "Apache-2.0",
    "bsd 3-clause": "BSD-3-Clause",
    "3-clause bsd": "BSD-3-Clause",
    "new bsd": "BSD-3-Clause",
    "modified bsd": "BSD-3-Clause",
    "bsd 2-clause": "BSD-2-Clause",
    "2-clause bsd": "BSD-2-Clause",
    "simplified bsd": "BSD-2-Clause",
    "mpl 2.0": "MPL-2.0",
    "mozilla public 2.0": "MPL-2.0",
    "the unlicense": "Unlicense",
    "isc": "ISC",
}
# Classifiers that stand for one licence; those for families ("BSD License", "GPL") do not.
_CLASSIFIED = {
    "MIT License": "MIT",
    "MIT No Attribution License (MIT-0)": "MIT-0",
    "ISC License (ISCL)": "ISC",
    "Zero-Clause BSD (0BSD)": "0BSD",
    "Boost Software License 1.0 (BSL-1.0)": "BSL-1.0",
    "CC0 1.0 Universal (CC0 1.0) Public Domain Dedication": "CC0-1.0",
    "Eclipse Public License 1.0 (EPL-1.0)": "EPL-1.0",
    "Eclipse Public License 2.0 (EPL-2.0)": "EPL-2.0",
    "European Union Public Licence 1.1 (EUPL 1.1)": "EUPL-1.1",
    "European Union Public Licence 1.2 (EUPL 1.2)": "EUPL-1.2",
    "GNU Affero General Public License v3": "AGPL-3.0-only",
    "GNU Affero General Public License v3 or later (AGPLv3+)": "AGPL-3.0-or-later",
    "GNU General Public License v2 (GPLv2)": "GPL-2.0-only",
    "GNU General Public License v2 or later (GPLv2+)": "GPL-2.0-or-later",
    "GNU General Public License v3 (GPLv3)": "GPL-3.0-only",
    "GNU General Public License v3 or later (GPLv3+)": "GPL-3.0-or-later",
    "GNU Lesser General Public License v2 (LGPLv2)": "LGPL-2.0-only",
    "GNU Lesser General Public License v2 or later (LGPLv2+)": "LGPL-2.0-or-later",
    "GNU Lesser General Public License v3 (LGPLv3)": "LGPL-3.0-only",
    "GNU Lesser General Public License v3 or later (LGPLv3+)": "LGPL-3.0-or-later",
    "Mozilla Public License 1.1 (MPL 1.1)": "MPL-1.1",
    "Mozilla Public License 2.0 (MPL 2.0)": "MPL-2.0",
    "The Unlicense (Unlicense)": "Unlicense",
    "Universal Permissive License (UPL)": "UPL-1.0",
}


def licence_in(content: bytes) -> Licence:
    """The licence that core metadata states; its expression is `None` where that is not certain."""
    fields: dict[str, list[str]] = {}
    try:
        text = header_text(content)
    except MetadataBroken:
        return Licence(None)
    for name, value in _FIELD.findall(text):
        fields.setdefault(name.lower(), []).append(value.strip())
    expression = next(iter(fields.get("license-expression", ())), "")
    if expression:
        return Licence(canonical(expression), expression[:_LONGEST])
    text = next(iter(fields.get("license", ())), "")
    classifiers = [
        told.rpartition("::")[2].strip()
        for told in fields.get("classifier", ())
        if told.startswith("License ::") and not told.endswith(_FAMILIES)
    ]
    known = {found for found in (_written(text), *map(_CLASSIFIED.get, classifiers)) if found}
    certain = len(known) == 1 and all(_agrees(told, known) for told in classifiers)
    short = text if len(text) <= _LONGEST and "\n" not in text else ""
    written = short if short.lower() not in _UNKNOWN else ""
    return Licence(known.pop() if certain else None, written or ", ".join(classifiers)[:_LONGEST])


def _agrees(classifier: str, known: set[str]) -> bool:
    """Whether a classifier is not about another licence: one for a family agrees with its members."""
    named = _CLASSIFIED.get(classifier)
    if named is not None:
        return named in known
    family = classifier.partition(" ")[0].upper()
    return any(licence.upper().startswith(family) for licence in known)


def _written(text: str) -> str | None:
    """The licence that a text names, if it is an expression or a name that stands for just one."""
    if not text or len(text) > _LONGEST or "\n" in text or text.lower() in _UNKNOWN:
        return None
    plain = text.lower().replace("license", " ").replace("licence", " ")
    for mark in ",()":
        plain = plain.replace(mark, " ")
    words = " ".join(plain.split()).removesuffix(" v").replace(" v2", " 2").replace("-v2", " 2")
    return canonical(text) or _WRITTEN.get(words) or _CLASSIFIED.get(text)
