"""A store of finished work, by content, bounded in bytes; the least recently used goes first."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any, TypeVar, cast

Result = TypeVar("Result")


class Cache:
    """Thread-safe. What two threads make at the same time is made twice and kept once."""

    def __init__(self, most_bytes: int = 512 * 1024 * 1024) -> None:
        self.most_bytes = most_bytes
        self._items: OrderedDict[Hashable, tuple[Any, int]] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()

    @property
    def nbytes(self) -> int:
        return self._bytes

    def __len__(self) -> int:
        return len(self._items)

    def get(self, key: Hashable, make: Callable[[], Result]) -> Result:
        """The kept result of that key, else what `make` returns; an exception keeps nothing."""
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                return cast(Result, self._items[key][0])
        made = make()
        size = int(getattr(made, "nbytes", 1024))
        with self._lock:
            if key not in self._items:
                self._items[key] = (made, size)
                self._bytes += size
            while self._bytes > self.most_bytes and len(self._items) > 1:
                _, (_, freed) = self._items.popitem(last=False)
                self._bytes -= freed
        return made

    def clear(self) -> None:
        with self._lock:
            self._items.clear()
            self._bytes = 0
