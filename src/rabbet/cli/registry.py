"""Which commands there are. A command is a module; it is imported only when it is asked for."""

__all__ = ["COMMANDS", "HEADINGS"]

# heading in the help → where its commands lie, and their summaries, which a test holds to the modules
_GROUPS = {
    "declare": (
        "declaring",
        {
            "begin": "start a declaration here",
            "declare": "add or change runtimes and libraries",
            "retract": "take something out",
            "adopt": "draw up a declaration from what exists",
        },
    ),
    "resolve": (
        "resolving",
        {
            "resolve": "settle every version, write the lock",
            "explain": "why a package is in the lock, and what holds it back",
            "lookup": "what releases the sources offer",
            "compare": "what differs between two states",
        },
    ),
    "recreate": (
        "recreating",
        {
            "recreate": "make the environment match the lock",
            "run": "run one command inside it",
            "enter": "a shell inside it",
            "runtimes": "the runtimes of this machine",
            "envs": "the environments of this machine",
            "store": "what this machine has fetched",
        },
    ),
    "drift": (
        "drifting",
        {
            "drift": "what is installed here, against the lock",
            "census": "everyone's machines, against the lock",
            "culprit": "which changed library broke a command",
            "imports": "what the code imports, against the declaration",
        },
    ),
    "more": (
        "more",
        {
            "status": "where the project stands",
            "past": "what the lock held before",
            "carry": "all of it, for a machine without network",
            "export": "the lock for others",
            "completion": "completion for a shell",
            "follow": "a project's environment wherever you go in it",
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
