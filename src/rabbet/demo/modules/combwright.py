"""A build back end (PEP 517, 660) for trees of single modules: what it needs to know stands in [project]."""

import base64
import hashlib
import os
import re
import tomllib
import zipfile

_DAY = (2026, 5, 1, 12, 0, 0)


def get_requires_for_build_wheel(config_settings=None):
    with open("pyproject.toml", "rb") as file:
        return tomllib.load(file).get("tool", {}).get("combwright", {}).get("needs", [])


get_requires_for_build_editable = get_requires_for_build_wheel


def prepare_metadata_for_build_wheel(metadata_directory, config_settings=None):
    project = _project()
    folder = os.path.join(metadata_directory, _info(project))
    os.mkdir(folder)
    with open(os.path.join(folder, "METADATA"), "w", encoding="utf-8") as file:
        file.write(_metadata(project))
    return _info(project)


def build_wheel(wheel_directory, config_settings=None, metadata_directory=None):
    modules = [name for name in sorted(os.listdir(".")) if name.endswith(".py")]
    return _wheel(wheel_directory, {name: open(name, "rb").read() for name in modules})


def build_editable(wheel_directory, config_settings=None, metadata_directory=None):
    return _wheel(wheel_directory, {"_%s.pth" % _stem(_project()): (os.getcwd() + "\n").encode()})


def _project():
    with open("pyproject.toml", "rb") as file:
        project = tomllib.load(file)["project"]
    if "version" in project.get("dynamic", []):
        with open(project["name"] + ".py", encoding="utf-8") as file:
            project["version"] = re.search('__version__ = "(.+)"', file.read()).group(1)
    return project


def _stem(project):
    return "%s-%s" % (re.sub("[-_.]+", "_", project["name"]).lower(), project["version"])


def _info(project):
    return _stem(project) + ".dist-info"


def _metadata(project):
    lines = ["Metadata-Version: 2.2", "Name: " + project["name"], "Version: " + project["version"]]
    lines += ["Requires-Dist: " + need for need in project.get("dependencies", [])]
    return "\n".join([*lines, "", ""])


def _wheel(folder, files):
    project = _project()
    info = _info(project)
    files[info + "/METADATA"] = _metadata(project).encode()
    files[info + "/WHEEL"] = b"Wheel-Version: 1.0\nRoot-Is-Purelib: true\nTag: py3-none-any\n"
    commands = ["%s = %s\n" % pair for pair in sorted(project.get("scripts", {}).items())]
    if commands:
        files[info + "/entry_points.txt"] = ("[console_scripts]\n" + "".join(commands)).encode()
    name = _stem(project) + "-py3-none-any.whl"
    rows = ""
    with zipfile.ZipFile(os.path.join(folder, name), "w") as archive:
        for place, content in sorted(files.items()):
            digest = base64.urlsafe_b64encode(hashlib.sha256(content).digest()).rstrip(b"=").decode()
            rows += "%s,sha256=%s,%d\n" % (place, digest, len(content))
            archive.writestr(zipfile.ZipInfo(place, _DAY), content)
        archive.writestr(zipfile.ZipInfo(info + "/RECORD", _DAY), rows + info + "/RECORD,,\n")
    return name
