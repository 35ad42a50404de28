"""Two made-up languages, `waggle` and `hum` (which needs waggle), whose runtimes are small scripts."""

from pathlib import Path

from rabbet.demo.runtimes import program_text

SETTINGS = """
[languages.waggle]
programs = ["waggle", "waggle-format"]
ask = ["--version"]
told = ["waggle {version} "]
variables = { WAGGLE_HOME = "{home}" }
distributors = { apiary = "apiary", meadow = "meadow" }
script = true

[languages.hum]
programs = ["hum"]
ask = ["--version"]
told = ["hum {version}"]
needs = { waggle = ">=2" }
script = true
"""


def know_languages(home: Path) -> None:
    """Tell of both languages in the settings of the user with this home."""
    settings = home / "config" / "rabbet" / "settings.toml"
    settings.parent.mkdir(parents=True, exist_ok=True)
    settings.write_text(SETTINGS)


def install(
    home: Path, language: str, version: str, distributor: str = "apiary", *, folder: str = ""
) -> Path:
    """Install a runtime below a home folder, and give its main program."""
    place = home / "opt" / (folder or f"{language}-{version}") / "bin"
    place.mkdir(parents=True, exist_ok=True)
    names = ["waggle", "waggle-format", "waggle-debug"] if language == "waggle" else [language]
    for name in names:
        (place / name).write_text(program_text(name, version, distributor))
        (place / name).chmod(0o755)
    return place / names[0]
