"""The pictures that a recipe holds, decoded and prepared as the image is in which they are sought."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.outer import provided

Trail = Sequence[tuple[Any, Image]]
"""The preparation steps (`PlannedStep`) that were run, each with the image before it."""


class Assets(Mapping[str, Image]):
    """Prepared pictures by sha256, made when asked for."""

    def __init__(self, held: Mapping[str, Any], trail: Trail = ()) -> None:
        """`held`: images, or the data of a recipe."""
        self._held, self._trail = held, trail
        self._made: dict[str, Image] = {}

    def __getitem__(self, name: str) -> Image:
        """Raises `ParameterError` where there is none, or one that cannot be read."""
        if name not in self._made:
            if name not in self._held:
                raise ParameterError(f"the picture {name[:8]}… is not there: a recipe holds it under assets")
            image = self.original(name)
            for planned, before in self._trail:
                image = planned.step.follow(image, planned.parameters, before)
            self._made[name] = image
        return self._made[name]

    def original(self, name: str) -> Image:
        """The picture as it is stored."""
        held = self._held[name]
        return held if isinstance(held, Image) else provided("decode_asset")(held)

    def __iter__(self) -> Iterator[str]:
        return iter(self._held)

    def __len__(self) -> int:
        return len(self._held)
