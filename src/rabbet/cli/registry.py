"""Which commands there are. A command is a module; it is imported only when it is asked for."""

__all__ = ["COMMANDS", "HEADINGS"]

HEADINGS = ("declare", "resolve", "recreate", "drift", "more")

# name → (heading in the help, module, summary); a test holds the summaries to the modules' first lines
COMMANDS = {
    "begin": ("declare", "rabbet.cli.commands.begin", "start a declaration here"),
    "declare": ("declare", "rabbet.cli.commands.declare", "add or change runtimes and libraries"),
    "retract": ("declare", "rabbet.cli.commands.retract", "take something out"),
    "adopt": ("declare", "rabbet.cli.commands.adopt", "draw up a declaration from what exists"),
    "resolve": ("resolve", "rabbet.cli.commands.resolve", "settle every version, write the lock"),
    "explain": (
        "resolve",
        "rabbet.cli.commands.explain",
        "why a package is in the lock, and what holds it back",
    ),
    "lookup": ("resolve", "rabbet.cli.commands.lookup", "what releases the sources offer"),
    "compare": ("resolve", "rabbet.cli.commands.compare", "what differs between two states"),
    "recreate": ("recreate", "rabbet.cli.commands.recreate", "make the environment match the lock"),
    "run": ("recreate", "rabbet.cli.commands.run", "run one command inside it"),
    "enter": ("recreate", "rabbet.cli.commands.enter", "a shell inside it"),
    "runtimes": ("recreate", "rabbet.cli.commands.runtimes", "the runtimes of this machine"),
    "envs": ("recreate", "rabbet.cli.commands.envs", "the environments of this machine"),
    "store": ("recreate", "rabbet.cli.commands.store", "what this machine has fetched"),
    "drift": ("drift", "rabbet.cli.commands.drift", "what is installed here, against the lock"),
    "census": ("drift", "rabbet.cli.commands.census", "everyone's machines, against the lock"),
    "culprit": ("drift", "rabbet.cli.commands.culprit", "which changed library broke a command"),
    "imports": (
        "drift",
        "rabbet.cli.commands.imports",
        "what the code imports, against the declaration",
    ),
    "status": ("more", "rabbet.cli.commands.status", "where the project stands"),
    "past": ("more", "rabbet.cli.commands.past", "what the lock held before"),
    "carry": ("more", "rabbet.cli.commands.carry", "all of it, for a machine without network"),
    "export": ("more", "rabbet.cli.commands.export", "the lock for others"),
    "completion": ("more", "rabbet.cli.commands.completion", "completion for a shell"),
    "follow": ("more", "rabbet.cli.commands.follow", "a project's environment wherever you go in it"),
    "demo": ("more", "rabbet.demo.command", "play a full example"),
}
