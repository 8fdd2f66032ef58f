"""Spreads the images of a run over a Dask cluster, whose workers see the same folders under the same names."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from typing import Any

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.numerics.runtime.threads import set_thread_count
from lucid_finch.pipeline.batch import Batch, Executor, Record
from lucid_finch.pipeline.sinks import failure_row
from lucid_finch.pipeline.sources import Place
from lucid_finch.pipeline.workers import Worker

_PATIENCE = 10.0
"""Seconds for which a scheduler may be silent."""
_AHEAD = 4
"""Images under way for each thread of the cluster."""

_here = threading.local()


def _one(batch: Batch, key: str, place: Place) -> Record:
    """Runs on a worker, which keeps what it needs from image to image."""
    if getattr(_here, "key", None) != key:
        set_thread_count(1)
        _here.key, _here.worker = key, Worker(batch)
    worker: Worker = _here.worker
    return worker.record(place)


def _client(address: str) -> Any:
    try:
        import distributed
    except ImportError:
        raise _refused("needs Dask: pip install 'lucid-finch[cluster]'") from None
    try:
        client: Any = distributed.Client(address, timeout=_PATIENCE, set_as_default=False)  # type: ignore[no-untyped-call]
    except (OSError, TimeoutError, ValueError) as error:
        raise _refused(f"no Dask scheduler answers at {address} ({type(error).__name__})") from None
    try:
        client.get_versions(check=True)
        found = client.run(_version)
    except Exception as error:
        client.close()
        raise _refused(f"the workers at {address} cannot be used: {' '.join(str(error).split())[:300]}") from None
    others = {worker: version for worker, version in found.items() if version != _version()}
    if found and not others:
        return client
    client.close()
    if not found:
        raise _refused(f"the cluster at {address} has no workers")
    worker, version = next(iter(others.items()))
    raise _refused(f"the worker {worker} has Lucid Finch {version}, this is {_version()}; install the same everywhere")


def _refused(why: str) -> ParameterError:
    return ParameterError(f"--scheduler: {why}", "scheduler")


def _version() -> str:
    from importlib import metadata

    return metadata.version("lucid-finch")


@contextmanager
def in_cluster(batch: Batch, address: str) -> Iterator[Executor]:
    """Images on the workers of a scheduler. Raises `ParameterError` where it cannot be used."""
    if batch.follows:
        raise _refused("objects are followed from frame to frame, which one process has to do")
    client = _client(address)
    try:
        shared = client.scatter(batch, broadcast=True)
        key = f"{shared.key}"

        def work(places: Iterable[Place]) -> Iterator[Record]:
            left = iter(places)
            waiting: deque[tuple[Place, Any]] = deque()
            while True:
                most = _AHEAD * max(1, sum(client.nthreads().values()))
                while len(waiting) < most and (place := next(left, None)) is not None:
                    waiting.append((place, client.submit(_one, shared, key, place, pure=False)))
                if not waiting:
                    return
                place, future = waiting.popleft()
                yield _result(place, future)

        yield work
    finally:
        client.close()


def _result(place: Place, future: Any) -> Record:
    try:
        record: Record = future.result()
        return record
    except Exception as error:
        # Workers that were lost have been replaced by others, until the scheduler gives up.
        failure = f"{place.path}: no worker of the cluster could do it ({type(error).__name__}: {str(error)[:200]})"
        return Record(place, failure, (), (failure_row(place, failure),))
    finally:
        future.release()
