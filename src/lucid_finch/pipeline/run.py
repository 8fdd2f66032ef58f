"""The one loop over images: each through the recipe; one that fails is named and the others are done."""

from __future__ import annotations

import logging
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from lucid_finch.core.errors import Cancelled, FileError, ParameterError
from lucid_finch.core.execution.engine import Cancel, Engine, Run
from lucid_finch.core.image import Image
from lucid_finch.core.recipe import Recipe
from lucid_finch.pipeline.sources import AS_STORED, Place, ReadOptions

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
    places: Sequence[Place],
    engine: Engine,
    cancelled: Cancel | None = None,
    options: ReadOptions = AS_STORED,
) -> Iterator[Done]:
    """Run a recipe over images, in their order. Raises `Cancelled`."""
    for place in places:
        if cancelled is not None and cancelled():
            raise Cancelled()
        image = None
        try:
            image = place.read(options)
            done = Done(place, image, engine.run(recipe, image, cancelled=cancelled))
        except Cancelled:
            raise
        except FileError as error:
            done = Done(place, image, None, str(error))
        except (ParameterError, MemoryError) as error:
            done = Done(place, image, None, f"{place.path}: {error or 'does not fit into memory'}")
        except Exception as error:
            log.exception("%s failed", place.path)
            done = Done(place, image, None, unexpected(place.path, error))
        # Outside of the try: an error of whoever takes it is not the image's.
        yield done


def unexpected(path: object, error: Exception) -> str:
    """The failure of an image that is a fault of the program."""
    return f"{path}: unexpected {type(error).__name__}: {error}; this is a fault of Lucid Finch, the log has the details"
