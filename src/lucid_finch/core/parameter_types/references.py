"""Values that point elsewhere: an asset in the recipe, another detector, a pose."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel, ConfigDict, GetCoreSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import PydanticCustomError, core_schema

from lucid_finch.core.parameter_types.base import Declared, Option, ParameterType

_SHA256 = re.compile(r"[0-9a-f]{64}")


class _TextValue:
    """A value that recipes hold as a text."""

    text: str

    @classmethod
    def of(cls, text: str) -> Any:
        raise NotImplementedError

    @classmethod
    def problem(cls, text: str) -> str:
        """Why a text is none of these, or nothing."""
        return ""

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> core_schema.CoreSchema:
        def check(given: object) -> Any:
            if isinstance(given, cls):
                return given
            problem = "it must be a text" if not isinstance(given, str) else cls.problem(given)
            if problem:
                raise PydanticCustomError("text_value", "{reason}", {"reason": problem})
            return cls.of(str(given))

        write = core_schema.plain_serializer_function_ser_schema(lambda value: value.text)
        return core_schema.no_info_plain_validator_function(check, serialization=write)

    @classmethod
    def __get_pydantic_json_schema__(cls, schema: Any, handler: Any) -> JsonSchemaValue:
        return {"type": "string"}


@dataclass(frozen=True)
class Asset(_TextValue):
    """An image or a model that the recipe holds once, by its sha256: only the hash is in keys, findings and logs."""

    text: str

    @classmethod
    def of(cls, text: str) -> Asset:
        return cls(text)

    @classmethod
    def problem(cls, text: str) -> str:
        return "" if _SHA256.fullmatch(text) else "it must be the sha256 of an asset of the recipe, 64 hexadecimal digits"

    @classmethod
    def __get_pydantic_json_schema__(cls, schema: Any, handler: Any) -> JsonSchemaValue:
        return {"type": "string", "pattern": "^[0-9a-f]{64}$"}


@dataclass(frozen=True)
class Reference(_TextValue):
    """The name of another detector of the recipe."""

    text: str

    @classmethod
    def of(cls, text: str) -> Reference:
        return cls(text)


class Pose(BaseModel):
    """Position (px of the source), angle in (-180, 180] degrees and scale of an object, against what was taught."""

    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, allow_inf_nan=False)
    x: float
    y: float
    angle: float = 0.0
    scale: float = 1.0


class AssetType(ParameterType):
    """An `Asset`."""

    def show(self, value: Any) -> str:
        text = value.text if isinstance(value, Asset) else value
        return "" if text is None else f"{text[:8]}…"

    def hint(self) -> str:
        return "ImageLike"

    def allowed(self, declared: Declared) -> str:
        return "a picture (a file, an image or an array), or the sha256 of an asset of the recipe"

    def option(self, declared: Declared) -> Option:
        return Option(placeholder="FILE")


class ReferenceType(ParameterType):
    """A `Reference`."""

    def show(self, value: Any) -> str:
        return value.text if isinstance(value, Reference) else value or ""

    def hint(self) -> str:
        return "str"

    def allowed(self, declared: Declared) -> str:
        return "the name of another detector of the recipe"


class PoseType(ParameterType):
    """A `Pose`."""

    def hint(self) -> str:
        return "Mapping[str, float]"

    def allowed(self, declared: Declared) -> str:
        return 'a pose such as {"x": 50, "y": 40, "angle": 0, "scale": 1}'
