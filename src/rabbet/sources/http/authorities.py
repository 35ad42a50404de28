"""The certificates of authorities that a source's certificate has to be signed by.

A libcurl that comes in a wheel knows none, so it is given those that Python's own `ssl` would take.
"""

import os
from collections.abc import Mapping
from pathlib import Path

from rabbet.errors import SourceFailed

__all__ = ["Authorities", "authorities"]

Authorities = tuple[str, str]  # a file and a folder, each may be empty


def authorities(environ: Mapping[str, str]) -> Authorities:
    """What the user names by `SSL_CERT_FILE` and `SSL_CERT_DIR`, else the system's.

    Raises `SourceFailed` where what is named is not there.
    """
    named = environ.get("SSL_CERT_FILE", ""), environ.get("SSL_CERT_DIR", "")
    if not any(named):
        return _of_the_system()
    for path, there in zip(named, (Path(named[0]).is_file(), Path(named[1]).is_dir()), strict=True):
        if path and not there:
            raise SourceFailed(
                "the certificates that SSL_CERT_FILE or SSL_CERT_DIR names can't be used",
                because=[f"{path}: {os.strerror(2)}"],
                note="name files that are there, or neither of the two variables",
            )
    return named


def _of_the_system() -> Authorities:
    import ssl  # here: only https needs it

    paths = ssl.get_default_verify_paths()
    return paths.cafile or "", paths.capath or ""
