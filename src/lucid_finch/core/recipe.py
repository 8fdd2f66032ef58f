"""The recipe: preparation, detectors and expectations as one document, with its JSON Schema and upgrades."""

from __future__ import annotations

import base64
import hashlib
import json
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Annotated, Any, Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError, field_validator, model_validator

from lucid_finch.core.detection import Detection
from lucid_finch.core.detector import DetectorParameters
from lucid_finch.core.detectors import KINDS, detector_of
from lucid_finch.core.errors import ParameterError, nearest
from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.core.inspection.metric_parameters import in_pixels, metric_ends
from lucid_finch.core.inspection.millimetres import metric_columns
from lucid_finch.core.parameter_types.references import Asset, Reference, ReferenceType
from lucid_finch.core.parameters import Parameters, gathers
from lucid_finch.core.prepare import STEPS, step_of
from lucid_finch.core.regions import Region, with_tuples

VERSION = 2
DEFAULTS = 1
"""Revision of the automatic values. A recipe keeps the revision that it was made with."""


def _from_version_1(data: dict[str, Any]) -> dict[str, Any]:
    """Adds what version 2 has: assets, calibration, revision of the defaults; a reference that is not given is null."""
    upgraded = {**data, "measures": data.get("measures") or [], "checks": data.get("checks") or []}
    entries = data.get("detectors")
    for entry in entries if isinstance(entries, (list, tuple)) else ():
        parameters = entry.get("parameters") if isinstance(entry, dict) else None
        if isinstance(parameters, dict) and parameters.get("reference_line") == "":
            parameters["reference_line"] = None
    return upgraded


UPGRADES: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {1: _from_version_1}
"""From a version to the next, for files that older versions wrote."""


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, allow_inf_nan=False)


class Step(BaseModel):
    """One preparation step; its other fields are the parameters of that step."""

    model_config = ConfigDict(extra="allow", strict=True, frozen=True)
    step: str
    on: bool = True
    """A step that is off stays in the recipe and does nothing."""

    @model_validator(mode="after")
    def _known(self) -> Step:
        self.made_parameters()
        return self

    def made_parameters(self) -> Parameters:
        return step_of(self.step).Parameters.make(self.model_extra or {}, self.step)

    def plain(self) -> dict[str, Any]:
        return {"step": self.step, **_off(self.on), **self.made_parameters().plain()}


def _off(on: bool) -> dict[str, bool]:
    """Written only where something is off: nearly everything is on."""
    return {} if on else {"on": False}


Count = Annotated[int, Field(ge=0)]


class MarkStyle(Parameters):
    """How findings are drawn on annotated pictures."""

    colour: str = gathers("", label="Colour", help="#rrggbb; empty: one of a safe set for each detector.")
    thickness: float = gathers(
        0.0, label="Line", unit="px", least=0.0, most=100.0, help="Of the written picture; 0: fits the size of the picture."
    )
    text_size: float = gathers(
        0.0, label="Text", unit="px", least=0.0, most=500.0, help="Of the written picture; 0: fits the size of the picture."
    )
    numbers: bool = gathers(True, label="Numbers", help="Write the number of each finding.")
    colour_by: str = gathers("", label="Colour by", help="A column that sets the colour of each mark; empty: none.")

    @field_validator("colour")
    @classmethod
    def _is_colour(cls, value: str) -> str:
        if value and not re.fullmatch("#[0-9a-fA-F]{6}", value):
            raise ValueError("a colour is written #rrggbb")
        return value


@dataclass(frozen=True)
class Unmet:
    """An expectation that was not met."""

    detector: str
    what: str
    expected: str
    measured: str

    def __str__(self) -> str:
        return f"{self.detector}: {self.what} is {self.measured}, expected {self.expected}"


class AssetData(_Part):
    """An image or a model that the recipe holds, under its sha256."""

    media_type: Annotated[str, Field(min_length=1, max_length=100)]
    data: str
    """Base64."""

    def decoded(self) -> bytes:
        """Raises ValueError."""
        return base64.b64decode(self.data, validate=True)


class DetectorEntry(_Part):
    """One detector of a recipe."""

    name: Annotated[str, Field(min_length=1, max_length=80)]
    kind: str
    on: bool = True
    """A detector that is off stays in the recipe and is not run."""
    prepare: tuple[Step, ...] = ()
    parameters: dict[str, Any] = {}
    anchor: str | None = None
    """Another detector whose best finding moves the region."""
    track: bool = False
    """Whether findings of one object have one number over the frames of a clip."""
    expect: dict[str, int | float | tuple[float, float]] = {}

    @model_validator(mode="after")
    def _sound(self) -> DetectorEntry:
        self.made_parameters()
        columns = KINDS[self.kind].all_columns()
        known = {"count": (), **{c.name: c.names for c in (*columns, *metric_columns(columns))}}
        for name, value in self.expect.items():
            if name not in known:
                raise ValueError(f'expect: "{name}" is no column{nearest(name, known)}')
            if known[name]:
                raise ValueError(f'expect: "{name}" holds texts; ranges can be given for numbers')
            if isinstance(value, tuple) and value[0] > value[1]:
                raise ValueError(f"expect: {name}: {list(value)} is reversed")
            if not isinstance(value, tuple) and name != "count":
                raise ValueError(f"expect: {name}: two numbers are needed, lowest and highest")
        return self

    @property
    def references(self) -> dict[str, str]:
        """Names of the other detectors that it refers to, by parameter (or `anchor`)."""
        made = self.made_parameters()
        found = {name: value.text for name in type(made).declarations() if isinstance(value := getattr(made, name), Reference)}
        return found if self.anchor is None else {**found, "anchor": self.anchor}

    @property
    def assets(self) -> set[str]:
        """Hashes of the assets that its parameters name."""
        made = self.made_parameters()
        return {value.text for name in type(made).declarations() if isinstance(value := getattr(made, name), Asset)}

    def made_parameters(self, region: Region | None = None) -> DetectorParameters:
        """The parameters; `region` is used if the detector has none of its own."""
        detector = detector_of(self.kind)
        made = detector.Parameters.make(self.parameters, f'detector "{self.name}" ({self.kind})')
        return made.model_copy(update={"region": region}) if region is not None and made.region is None else made

    def unmet(self, detection: Detection) -> list[Unmet]:
        """Which expectations the detection does not meet."""
        found = []
        for name, wanted in self.expect.items():
            low, high = wanted if isinstance(wanted, tuple) else (wanted, wanted)
            text = f"{low:g}" if low == high else f"{low:g} to {high:g}"
            if name == "count":
                count = len(detection.findings)
                if not low <= count <= high:
                    found.append(Unmet(self.name, "count", text, str(count)))
                continue
            values = np.asarray(detection.findings[name], float)
            outside = values[~((values >= low) & (values <= high))]
            if len(outside):
                found.append(Unmet(self.name, name, text, f"{outside[0]:g} in {len(outside)} of {len(values)} findings"))
        return found

    def plain(self) -> dict[str, Any]:
        return {
            "name": self.name,
            "kind": self.kind,
            **_off(self.on),
            "prepare": [s.plain() for s in self.prepare],
            "parameters": self.made_parameters().plain(),
            "anchor": self.anchor,
            "track": self.track,
            "expect": {k: list(v) if isinstance(v, tuple) else v for k, v in self.expect.items()},
        }


_DEEPEST = 40
"""Levels of lists and objects in each other: a region with exclusions has eight."""


def _check_plain(data: Any, what: str) -> None:
    """Refuse what is nested too deep, and texts that no file can hold. Raises `ParameterError`."""
    level, depth = [data], 0
    while level:
        depth += 1
        if depth > _DEEPEST:
            raise ParameterError(f"{what}: is nested more than {_DEEPEST} deep")
        inside: list[Any] = []
        for value in level:
            inside += (*value, *value.values()) if isinstance(value, Mapping) else value
        for value in inside:
            # Half of a character, as JSON may spell it.
            if isinstance(value, str) and any("\ud800" <= c <= "\udfff" for c in value):
                raise ParameterError(f"{what}: {value!r} is no text that can be written")
        level = [value for value in inside if isinstance(value, (Mapping, list, tuple))]


class Recipe(_Part):
    """Everything that is done to an image. `Recipe.parse` reads text, `text` writes it; files are `files.recipes`' work."""

    lucid_finch_recipe: Literal[2] = 2
    name: str = ""
    notes: str = ""
    prepare: tuple[Step, ...] = ()
    region: Region | None = None
    """Where every detector looks that has no region of its own."""
    detectors: tuple[DetectorEntry, ...] = ()
    combine: tuple[tuple[str, ...], ...] = ()
    """Lists of detectors whose findings are merged, each once."""
    marks: MarkStyle = MarkStyle()
    """How findings are drawn on annotated pictures."""
    measures: tuple[dict[str, Any], ...] = ()
    checks: tuple[dict[str, Any], ...] = ()
    calibration: Calibration | None = None
    """What makes millimetres of the pixels of its pictures."""
    assets: dict[str, AssetData] = {}
    """Images and models, each once, by the sha256 of its bytes."""
    defaults: Annotated[int, Field(ge=1, le=DEFAULTS)] = DEFAULTS
    """Revision of the automatic values that it was made with."""

    def __repr__(self) -> str:
        names = [entry.name for entry in self.detectors]
        listed = ", ".join(names[:6]) + (", ..." if len(names) > 6 else "")
        return f'<Recipe "{self.name}": {len(self.prepare)} steps; {listed or "no detectors"}>'

    @model_validator(mode="after")
    def _assets_match(self) -> Recipe:
        for name, asset in self.assets.items():
            try:
                actual = hashlib.sha256(asset.decoded()).hexdigest()
            except ValueError:
                raise ValueError(f"assets: {name} is not valid base64") from None
            if actual != name:
                raise ValueError(f"assets: the contents of {name} have the sha256 {actual}")
        for entry in self.detectors:
            missing = entry.assets - set(self.assets)
            if missing:
                raise ValueError(f'detector "{entry.name}": the recipe does not hold the asset {min(missing)}')
        return self

    @model_validator(mode="after")
    def _calibrated(self) -> Recipe:
        """What is in millimetres has a calibration."""
        for entry in self.detectors if self.calibration is None else ():
            metric = {c.name for c in metric_columns(KINDS[entry.kind].all_columns())} & set(entry.expect)
            if metric:
                raise ValueError(f'detector "{entry.name}": expect: {min(metric)} needs a calibration')
            in_pixels(entry.made_parameters(), None)
        for steps in (self.prepare, *(entry.prepare for entry in self.detectors)) if self.calibration is None else ():
            for step in steps:
                in_pixels(step.made_parameters(), None)
        return self

    @model_validator(mode="after")
    def _references_sound(self) -> Recipe:
        known = {entry.name: entry for entry in self.detectors}
        for entry in self.detectors:
            for parameter, name in entry.references.items():
                if name not in known:
                    raise ValueError(
                        f'detector "{entry.name}": {parameter}: no detector is called "{name}"{nearest(name, known)}'
                    )
            # Each round goes one reference further: more rounds than detectors are a circle.
            pending = set(entry.references.values())
            for _ in known:
                if entry.name in pending:
                    raise ValueError(f'detector "{entry.name}" refers, directly or through others, to itself')
                pending = {name for one in pending for name in known[one].references.values()}
        return self

    @model_validator(mode="after")
    def _names_differ(self) -> Recipe:
        names = [d.name for d in self.detectors]
        twice = next((n for n in names if names.count(n) > 1), None)
        if twice is not None:
            raise ValueError(f'two detectors are called "{twice}"')
        for group in self.combine:
            unknown = next((n for n in group if n not in names), None)
            if unknown is not None:
                raise ValueError(f'combine: no detector is called "{unknown}"{nearest(unknown, names)}')
            if len(set(group)) < max(len(group), 2):
                raise ValueError(f"combine: {list(group)} must be at least two different detectors")
        return self

    @property
    def running(self) -> tuple[DetectorEntry, ...]:
        """The detectors that are switched on."""
        return tuple(entry for entry in self.detectors if entry.on)

    @property
    def unused(self) -> list[str]:
        """What the recipe holds that this version keeps but does not apply."""
        found = [name for name in ("measures", "checks") if getattr(self, name)]
        return found + [f"{entry.name}: anchor" for entry in self.detectors if entry.anchor is not None]

    @classmethod
    def make(cls, given: Mapping[str, Any], what: str = "recipe") -> Self:
        """Upgrade and validate. Raises `ParameterError` that names the field."""
        data = dict(given)
        _check_plain(data, what)
        version = data.get("lucid_finch_recipe")
        if isinstance(version, bool) or not isinstance(version, int):
            raise ParameterError(f'{what}: is no recipe of Lucid Finch (no "lucid_finch_recipe" with a version)')
        if version > VERSION:
            raise ParameterError(f"{what}: is of version {version}, made by a newer Lucid Finch; this one reads up to {VERSION}")
        while version < VERSION:
            if version not in UPGRADES:
                raise ParameterError(f"{what}: is of version {version}, which never existed")
            data = UPGRADES[version](data)
            version += 1
        data["lucid_finch_recipe"] = VERSION
        try:
            return cls.model_validate(with_tuples(data))
        except ValidationError as error:
            raise _in_our_words(error, what) from None
        except ParameterError as error:
            raise ParameterError(f"{what}: {error}", error.parameter) from None

    @staticmethod
    def parsed(text: str | bytes, what: str = "recipe") -> dict[str, Any]:
        """The plain data of JSON text, not validated. Raises `ParameterError`."""
        try:
            data = json.loads(text)
        except (ValueError, RecursionError, MemoryError) as error:
            raise ParameterError(f"{what}: is not valid JSON ({error})") from None
        if not isinstance(data, dict):
            raise ParameterError(f"{what}: is no recipe of Lucid Finch (the outermost part is no object)")
        return data

    @classmethod
    def parse(cls, text: str | bytes, what: str = "recipe") -> Self:
        """From JSON text. Raises `ParameterError`."""
        return cls.make(cls.parsed(text, what), what)

    def calibrated(self, calibration: Calibration | None) -> Self:
        """The same recipe with another calibration, or none. Raises `ParameterError` if it needs one."""
        return type(self).make({**self.plain(), "calibration": calibration.plain() if calibration is not None else None})

    def plain(self) -> dict[str, Any]:
        return {
            "lucid_finch_recipe": VERSION,
            "name": self.name,
            "notes": self.notes,
            "prepare": [s.plain() for s in self.prepare],
            "region": self.region.model_dump(mode="json") if self.region is not None else None,
            "detectors": [d.plain() for d in self.detectors],
            "marks": self.marks.model_dump(mode="json"),
            "combine": [list(group) for group in self.combine],
            "measures": [dict(measure) for measure in self.measures],
            "checks": [dict(check) for check in self.checks],
            "calibration": self.calibration.plain() if self.calibration is not None else None,
            "assets": {name: asset.model_dump() for name, asset in self.assets.items()},
            "defaults": self.defaults,
        }

    def text(self) -> str:
        """JSON as it is written to a file, every parameter spelled out."""
        return json.dumps(self.plain(), indent=2, ensure_ascii=False, allow_nan=False) + "\n"

    @property
    def sha256(self) -> str:
        """Hash of what the recipe does: its text without name, notes and the style of marks."""
        core = {k: v for k, v in self.plain().items() if k not in ("name", "notes", "marks")}
        core["assets"] = sorted(self.assets)
        core["calibration"] = self.calibration.sha256 if self.calibration is not None else None
        return hashlib.sha256(json.dumps(core, sort_keys=True).encode()).hexdigest()


def starter() -> dict[str, Any]:
    """The recipe, as plain data, that work without one starts with: luma and the first kind of detector, all by default."""
    kind = next(iter(KINDS))
    return {
        "lucid_finch_recipe": VERSION,
        "name": "untitled",
        "prepare": [{"step": next(iter(STEPS))}],
        "detectors": [{"name": kind, "kind": kind}],
    }


def redirected(plain: dict[str, Any], names: Mapping[str, str | None]) -> dict[str, Any]:
    """A recipe as plain data, with every reference to a detector renamed, or removed where its new name is None."""
    entries = []
    for entry in plain["detectors"]:
        declared = KINDS[entry["kind"]].Parameters.declarations()
        parameters = {
            name: names.get(value, value) if isinstance(declared[name].type, ReferenceType) and value is not None else value
            for name, value in entry["parameters"].items()
        }
        anchor = entry.get("anchor")
        entries.append({**entry, "parameters": parameters, "anchor": names.get(anchor, anchor) if anchor else None})
    groups = [[names.get(name, name) for name in group] for group in plain["combine"]]
    groups = [[name for name in group if name is not None] for group in groups]
    return {**plain, "detectors": entries, "combine": [group for group in groups if len(group) > 1]}


def frozen(recipe: Recipe, detections: Mapping[str, Detection]) -> Recipe:
    """The recipe with automatic values replaced by those that were used on an image."""
    plain = recipe.plain()
    for entry in plain["detectors"]:
        detection = detections.get(entry["name"])
        if detection is not None:
            settled = detection.task.detector.frozen(detection.task).plain()
            # A region that comes from the recipe as a whole stays there, and what is in millimetres.
            given = detection.task.given
            metric = {n for n, declared in given.declarations().items() if metric_ends(declared, getattr(given, n))}
            kept = {n: value for n, value in entry["parameters"].items() if n == "region" or n in metric}
            entry["parameters"] = {**settled, **kept}
    return type(recipe).make(plain)


def json_schema() -> dict[str, Any]:
    """The JSON Schema of a recipe file, made from the declarations of every step and detector."""
    definitions: dict[str, Any] = {}

    def described(model: Any, fixed: dict[str, Any], title: str) -> dict[str, Any]:
        schema = model.model_json_schema(ref_template="#/$defs/{model}")
        definitions.update(schema.pop("$defs", {}))
        for field in schema.get("properties", {}).values():
            field.pop("finch", None)
        schema["properties"] = {**fixed, **schema.get("properties", {})}
        schema["title"] = title
        return dict(schema)

    steps = []
    for name, step in STEPS.items():
        schema = described(step.Parameters, {"step": {"const": name}, "on": {"type": "boolean"}}, f"step {name}")
        schema["required"] = ["step", *schema.get("required", [])]
        steps.append(schema)
    entries = []
    for kind, detector in KINDS.items():
        parameters = described(detector.Parameters, {}, f"parameters of {kind}")
        expected = {"anyOf": [{"type": "number"}, {"type": "array", "items": {"type": "number"}, "minItems": 2, "maxItems": 2}]}
        entries.append(
            {
                "type": "object",
                "title": f"detector {kind}",
                "description": detector.purpose,
                "additionalProperties": False,
                "required": ["name", "kind"],
                "properties": {
                    "name": {"type": "string", "minLength": 1, "maxLength": 80},
                    "kind": {"const": kind},
                    "on": {"type": "boolean"},
                    "prepare": {"type": "array", "items": {"$ref": "#/$defs/step"}},
                    "parameters": parameters,
                    "anchor": {
                        "type": ["string", "null"],
                        "description": "a detector whose best finding carries the region along",
                    },
                    "track": {"type": "boolean", "description": "one number per object over the frames of a clip"},
                    "expect": {"type": "object", "additionalProperties": expected},
                },
            }
        )
    definitions["step"] = {"oneOf": steps}
    marks = described(MarkStyle, {}, "style of annotated pictures")
    region = TypeAdapter(Region).json_schema(ref_template="#/$defs/{model}")
    definitions.update(region.pop("$defs", {}))
    asset = described(AssetData, {}, "asset")
    calibration = described(Calibration, {}, "calibration")
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Lucid Finch recipe",
        "type": "object",
        "additionalProperties": False,
        "required": ["lucid_finch_recipe"],
        "properties": {
            "lucid_finch_recipe": {"const": VERSION},
            "name": {"type": "string"},
            "notes": {"type": "string"},
            "prepare": {"type": "array", "items": {"$ref": "#/$defs/step"}},
            "region": {"anyOf": [region, {"type": "null"}]},
            "detectors": {"type": "array", "items": {"oneOf": entries}},
            "combine": {
                "type": "array",
                "items": {"type": "array", "items": {"type": "string"}, "minItems": 2, "uniqueItems": True},
                "description": "lists of detectors whose findings are merged, each once",
            },
            "marks": marks,
            "measures": {"type": "array", "items": {"type": "object"}},
            "checks": {"type": "array", "items": {"type": "object"}},
            "calibration": {"anyOf": [calibration, {"type": "null"}]},
            "assets": {"type": "object", "patternProperties": {"^[0-9a-f]{64}$": asset}, "additionalProperties": False},
            "defaults": {"type": "integer", "minimum": 1, "maximum": DEFAULTS},
        },
        "$defs": definitions,
    }


_WORDS = {
    "missing": "it is needed",
    "string_type": "it must be a text",
    "string_too_short": "it must not be empty",
    "string_too_long": "it is too long",
    "tuple_type": "it must be a list",
    "dict_type": "it must be an object",
    "model_type": "it must be an object",
    "int_type": "it must be a whole number",
    "float_type": "it must be a number",
}


def _in_our_words(error: ValidationError, what: str) -> ParameterError:
    problem = error.errors()[0]
    place = [str(p) for p in problem["loc"]]
    where = ".".join(place)
    if problem["type"] == "extra_forbidden":
        known = DetectorEntry.model_fields if "detectors" in place[:-1] else Recipe.model_fields
        return ParameterError(f'{what}: unknown field "{where}"{nearest(place[-1], known)}', place[-1])
    reason = _WORDS.get(problem["type"], problem["msg"].removeprefix("Value error, "))
    if not where:
        return ParameterError(f"{what}: {reason}")
    if problem["type"] == "value_error":
        return ParameterError(f"{what}: {where}: {reason}", place[-1])
    shown = repr(problem["input"])
    shown = shown if len(shown) < 60 else shown[:57] + "..."
    return ParameterError(f"{what}: {where} = {shown} is not allowed: {reason}", place[-1])
