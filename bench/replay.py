"""The floor of what fetches: known requests, each sent as soon as what reveals it was answered.

A bare libcurl program that parses nothing: it reads `{"first": [address…], "then": {address: [address…]}}`
from its standard input. With a folder as its argument it writes each answer into a file there, and prints the
file's name when it is whole.
"""

import json
import sys
from contextlib import suppress
from pathlib import Path

import pycurl

_MOST = 64  # requests at a time, as Rabbet sends them to a host that bears it


def main() -> None:
    """Fetch everything."""
    plan = json.load(sys.stdin)
    folder = Path(sys.argv[1]) if sys.argv[1:] else None
    then, waiting, seen = plan.get("then", {}), list(plan["first"]), set(plan["first"])
    multi, idle, under_way, files = pycurl.CurlMulti(), [], {}, {}
    while waiting or under_way:
        while waiting and len(under_way) < _MOST:
            handle = idle.pop() if idle else pycurl.Curl()
            under_way[handle] = waiting.pop(0)
            handle.setopt(pycurl.URL, under_way[handle])
            handle.setopt(pycurl.WRITEFUNCTION, len)
            if folder is not None:
                files[handle] = (folder / under_way[handle].rpartition("/")[2]).open("wb")
                handle.setopt(pycurl.WRITEFUNCTION, files[handle].write)
            multi.add_handle(handle)
        multi.perform()
        for handle in multi.info_read()[1]:
            multi.remove_handle(handle)
            idle.append(handle)
            if handle in files:
                files[handle].close()
                with suppress(BrokenPipeError):
                    print(files.pop(handle).name, flush=True)
            more = [one for one in then.get(under_way.pop(handle), ()) if one not in seen]
            waiting += more
            seen.update(more)
        if under_way and not waiting:
            multi.select(1.0)


if __name__ == "__main__":
    main()
