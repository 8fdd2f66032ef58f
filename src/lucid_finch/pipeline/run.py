"""The one loop over images: each through the recipe; one that fails is named and the others are done."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

from lucid_finch.core.errors import Cancelled, FileError, ParameterError
from lucid_finch.core.execution.engine import Cancel, Engine, Run
from lucid_finch.core.image import Image
from lucid_finch.core.recipe import Recipe
from lucid_finch.pipeline.sources import AS_STORED, Place, Reader, ReadOptions
from lucid_finch.pipeline.stages import ahead

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Done:
    """One image: its run, or why there is none."""

    place: Place
    image: Image | None
    run: Run | None
    failure: str = ""
    """What went wrong, with the name of the file."""


def run_images(
    recipe: Recipe,
    places: Iterable[Place],
    engine: Engine,
    cancelled: Cancel | None = None,
    options: ReadOptions = AS_STORED,
) -> Iterator[Done]:
    """Run a recipe over images, in their order; the next one is read meanwhile. Raises `Cancelled`."""
    images = ahead(_read(places, options), 1)
    try:
        for done in images:
            if cancelled is not None and cancelled():
                raise Cancelled()
            # Outside of the try: an error of whoever takes it is not the image's.
            yield _run(recipe, done, engine, cancelled) if done.image is not None else done
    finally:
        images.close()  # type: ignore[attr-defined]


def run_image(recipe: Recipe, place: Place, engine: Engine, reader: Reader) -> Done:
    """Run a recipe over one image."""
    done = _read_one(place, reader)
    return _run(recipe, done, engine, None) if done.image is not None else done


def _read_one(place: Place, reader: Reader) -> Done:
    try:
        return Done(place, reader.read(place), None)
    except Exception as error:
        return Done(place, None, None, _why(place, error))


def _read(places: Iterable[Place], options: ReadOptions) -> Iterator[Done]:
    with Reader(options) as reader:
        for place in places:
            yield _read_one(place, reader)


def _run(recipe: Recipe, done: Done, engine: Engine, cancelled: Cancel | None) -> Done:
    assert done.image is not None
    try:
        return replace(done, run=engine.run(recipe, done.image, cancelled=cancelled))
    except Cancelled:
        raise
    except Exception as error:
        return replace(done, failure=_why(done.place, error))


def _why(place: Place, error: Exception) -> str:
    """What went wrong with an image, in words that name it."""
    if isinstance(error, FileError):
        return str(error)
    if isinstance(error, (ParameterError, MemoryError)):
        return f"{place.path}: {error or 'does not fit into memory'}"
    log.error("%s failed", place.path, exc_info=error)
    return unexpected(place.path, error)


def unexpected(path: object, error: Exception) -> str:
    """The failure of an image that is a fault of the program."""
    return f"{path}: unexpected {type(error).__name__}: {error}; this is a fault of Lucid Finch, the log has the details"
