"""Keeps an error in an event handler from being swallowed or from taking the window with it."""

from __future__ import annotations

import functools
import logging
import sys
from collections.abc import Callable
from typing import Any, TypeVar, cast

log = logging.getLogger(__name__)

Handler = TypeVar("Handler", bound=Callable[..., Any])


def guarded(handler: Handler) -> Handler:
    """Logs what a handler raises and hands it to `sys.excepthook`, which shows it (and fails a test)."""

    @functools.wraps(handler)
    def call(*arguments: Any, **named: Any) -> Any:
        try:
            return handler(*arguments, **named)
        except Exception:
            log.exception("in %s", handler.__qualname__)
            sys.excepthook(*sys.exc_info())
            return None

    return cast(Handler, call)
