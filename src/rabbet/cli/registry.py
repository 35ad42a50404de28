"""Which commands there are. A command is a module; it is imported only when it is asked for."""

__all__ = ["COMMANDS", "HEADINGS", "OF_PLACES", "WRITING"]

# heading in the help → where its commands lie, and their summaries, which a test holds to the modules
_GROUPS = {
    "declare": (
        "declaring",
        {
            "begin": "start a project in this folder",
            "declare": "add or change libraries and runtimes",
            "retract": "remove libraries and other entries",
            "adopt": "declare what an existing project uses",
        },
    ),
    "resolve": (
        "resolving",
        {
            "resolve": "choose every version and write the lock",
            "explain": "show why a library is locked, and what holds it back",
            "lookup": "list the releases of a library",
            "compare": "compare two locks, revisions or environments",
        },
    ),
    "recreate": (
        "recreating",
        {
            "recreate": "make the environment match the lock",
            "run": "run a command in the environment",
            "enter": "start a shell in the environment",
            "runtimes": "list and obtain runtimes",
            "envs": "list and discard environments",
            "store": "look at the store, clean it, check it",
        },
    ),
    "drift": (
        "drifting",
        {
            "drift": "compare the installed libraries with the lock",
            "census": "compare everyone's machines with the lock",
            "culprit": "find the library that broke a command",
            "prove": "try how new it can be, and whether bounds are true",
            "imports": "compare the code's imports with the declaration",
            "rules": "show the rules on what may be locked, and what breaks them",
        },
    ),
    "more": (
        "more",
        {
            "status": "show where the project stands",
            "past": "show what the lock held before",
            "carry": "pack all that a lock needs, for a machine without network",
            "lend": "make a library's commands available in every folder",
            "export": "export the lock: list, bill, table, container, editor, kernel",
            "completion": "set up completion in a shell",
            "follow": "let the shell follow you into environments",
        },
    ),
}
HEADINGS = tuple(_GROUPS)

# name → (heading, module, summary)
COMMANDS = {
    name: (heading, f"rabbet.cli.commands.{room}.{name}", summary)
    for heading, (room, summaries) in _GROUPS.items()
    for name, summary in summaries.items()
} | {"demo": ("more", "rabbet.demo.command", "play an example")}

# The commands that work on a project, which may be another one than that of the current folder (`--in`).
OF_PLACES = frozenset(COMMANDS) - {
    "begin",
    "envs",
    "runtimes",
    "store",
    "completion",
    "follow",
    "demo",
}
WRITING = frozenset(
    ("declare", "retract", "adopt", "resolve", "recreate", "drift", "prove", "rules")
)  # that may change declaration or lock
