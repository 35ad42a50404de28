"""A solution becomes a lock, the lock becomes text and back, and each machine finds its part."""

import tomllib
import unittest
from urllib.parse import quote

from hypothesis import given
from hypothesis import strategies as st
from packaging.pylock import Pylock
from packaging.version import Version

from rabbet.core.model.lock import (
    Lock,
    LockedArchive,
    LockedBuild,
    LockedLibrary,
    LockedRuntime,
    LockedSdist,
    LockedWheel,
    Selection,
)
from rabbet.core.needs.names import library_name
from rabbet.formats.pylock import read_lock, write_lock
from rabbet.python.choosing.select import libraries_for
from tests.support.catalogue import TARGET

texts = st.text(st.characters(exclude_categories=["Cs"]), max_size=12)
digests = st.text("0123456789abcdef", min_size=64, max_size=64)
names = st.sampled_from(["combframe", "pollencsv", "skepio"]).map(library_name)
versions = st.builds(Version, st.sampled_from(["1.0", "2.0rc1", "1!3.post1", "1.0+local.1"]))
markers = st.sampled_from(
    [None, "'checks' in dependency_groups", "'plots' in extras", "sys_platform == 'linux'"]
)


@st.composite
def libraries(draw: st.DrawFn) -> LockedLibrary:
    """A library with a file at an address or a path."""
    name, version = draw(names), draw(versions)
    kind, ending = draw(
        st.sampled_from(
            [(LockedWheel, "-py3-none-any.whl"), (LockedSdist, ".tar.gz"), (LockedArchive, ".zip")]
        )
    )
    filename = f"{name}-{version}{ending}"  # which the standard has no key for beside an archive
    last = filename if kind is LockedArchive else quote(draw(texts))
    place = {draw(st.sampled_from(["url", "path"])): f"https://apiary.example/{last}"}
    artifact = kind(
        filename=filename,
        sha256=draw(digests),
        size=draw(st.none() | st.integers(0, 10**9)),
        **place,
    )
    return LockedLibrary(
        name=name,
        version=version,
        artifacts=(artifact,),
        dependencies=tuple(draw(st.lists(names, max_size=2, unique=True))),
        requires_python=draw(st.sampled_from([None, ">=3.8"])),
        marker=draw(markers),
        index=draw(st.sampled_from([None, "https://apiary.example/simple/"])),
    )


locks = st.builds(
    Lock,
    requires_python=st.sampled_from([None, ">=3.11"]),
    environments=st.sampled_from([(), ("sys_platform == 'linux'",)]),
    groups=st.sampled_from([(), ("checks", "docs")]),
    extras=st.sampled_from([(), ("plots",)]),
    libraries=st.lists(libraries(), max_size=3, unique_by=lambda one: one.name).map(tuple),
    fingerprint=st.none() | texts,
    runtimes=st.lists(
        st.builds(
            LockedRuntime,
            language=st.sampled_from(["python", "node"]),
            version=versions,
            distributor=st.just("") | texts,
        ),
        max_size=2,
    ).map(tuple),
    builds=st.lists(
        st.builds(
            lambda name, own, version, libraries: LockedBuild(
                name=name,
                version=None if own else version,
                requires=("combwright>=1",),
                libraries=tuple(libraries),
                own=own,
            ),
            names,
            st.booleans(),
            versions,
            st.lists(libraries(), max_size=2, unique_by=lambda one: one.name),
        ),
        max_size=2,
    ).map(tuple),
)


class LockText(unittest.TestCase):
    """What is written is what is read, by Rabbet and by the standard's own reader."""

    @given(locks)
    def test_round_trip(self, lock: Lock) -> None:
        text = write_lock(lock)
        self.assertEqual(read_lock(text), lock)
        self.assertEqual(write_lock(read_lock(text)), text)
        standard = Pylock.from_dict(tomllib.loads(text))
        standard.validate()
        self.assertEqual(
            [package.name for package in standard.packages], [library.name for library in lock.libraries]
        )

    @given(locks, st.sets(st.sampled_from(["checks", "docs"])), st.sets(st.just("plots")))
    def test_selection_agrees(self, lock: Lock, groups: set[str], extras: set[str]) -> None:
        """For given groups and extras, exactly those are needed that the standard's reader selects."""
        standard = Pylock.from_dict(tomllib.loads(write_lock(lock)))
        selection = Selection(lock.everything.groups & groups, lock.everything.extras & extras)
        chosen = standard.select(
            environment={**TARGET.markers},
            tags=None,
            dependency_groups=sorted(selection.groups),
            extras=sorted(selection.extras),
        )
        expected = sorted(package.name for package, _ in chosen)
        found = libraries_for(lock, TARGET, selection)
        self.assertEqual(sorted(library.name for library in found), expected)
