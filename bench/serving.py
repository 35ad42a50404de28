"""Servers in processes of their own, so that they take nothing from what is measured."""

import multiprocessing
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from multiprocessing.connection import Connection
from typing import Any

from bench.made_up_index import MadeUpIndex
from rabbet.demo.stand_in import Manner, StandIn

__all__ = ["serve_index", "serving"]


@contextmanager
def serving(serve: Callable[..., None], *given: object) -> Iterator[tuple[Any, Connection]]:
    """What a server says first, such as its address, and the line to it, while it serves.

    `serve` gets what is given and the other end of the line: it says one thing, and serves until it hears
    "end".
    """
    here, there = multiprocessing.Pipe()
    server = multiprocessing.Process(target=serve, args=(*given, there), daemon=True)
    server.start()
    yield here.recv(), here
    here.send("end")
    server.join()


def serve_index(index: MadeUpIndex, manner: Manner, told: Connection) -> None:
    """Serve an index, and answer each message with the requests since the last one."""
    with StandIn(index.made_up(), manner=manner) as stand_in:
        told.send(stand_in.address)
        while told.recv() != "end":
            told.send(stand_in.requests.copy())
            stand_in.requests.clear()
