"""Lets the stages of a run overlap: what comes before is made in a thread of its own, a little ahead."""

from __future__ import annotations

import contextvars
import queue
import threading
from collections.abc import Iterator
from typing import Any, TypeVar, cast

Item = TypeVar("Item")

_PATIENCE = 0.1
"""Seconds after which a thread that waits looks whether it is still wanted."""
_END = object()


def ahead(items: Iterator[Item], depth: int = 2) -> Iterator[Item]:
    """The items in their order, made by a thread that is at most `depth` of them ahead.

    What they raise is raised here, in its place. When this iterator is closed, `items` is closed too, in its thread.
    """
    made: queue.Queue[tuple[Any, BaseException | None]] = queue.Queue(max(1, depth))
    unwanted = threading.Event()

    def put(item: Any, error: BaseException | None = None) -> bool:
        while not unwanted.is_set():
            try:
                made.put((item, error), timeout=_PATIENCE)
            except queue.Full:
                continue
            return True
        return False

    def work() -> None:
        try:
            for item in items:
                if not put(item):
                    break
        except BaseException as error:
            put(_END, error)
        else:
            put(_END)
        finally:
            close = getattr(items, "close", None)
            if close is not None:
                close()

    # Files that are not to be written over are known by context.
    thread = threading.Thread(target=contextvars.copy_context().run, args=(work,), name="finch-ahead", daemon=True)
    thread.start()
    try:
        while True:
            item, error = made.get()
            if error is not None:
                raise error
            if item is _END:
                return
            yield cast(Item, item)
    finally:
        unwanted.set()
        thread.join()
