"""Every step and detector as declared, as data and as the reference page."""

from __future__ import annotations

from typing import Any

from lucid_finch.core.detectors import KINDS
from lucid_finch.core.parameters import Parameters
from lucid_finch.core.prepare import STEPS


def described() -> dict[str, Any]:
    """Every step and detector with its parameters and columns, plain data."""
    return {
        "steps": {n: {"purpose": s.purpose, "parameters": _parameters(s.Parameters)} for n, s in STEPS.items()},
        "detectors": {
            n: {
                "purpose": d.purpose,
                "parameters": _parameters(d.Parameters),
                "columns": [
                    {"name": c.name, "label": c.label, "unit": c.unit, "help": c.help} for c in d.all_columns()
                ],
            }
            for n, d in KINDS.items()
        },
    }  # fmt: skip


_STUB = '''"""What `import lucid_finch` offers, typed; made by `lucid-finch kinds --stub`, do not edit by hand."""

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, Literal, overload

import numpy as np
from numpy.typing import NDArray

{imports}

__version__: str

Kind = Literal[{kinds}]
Step = Literal[{steps}]
ImageLike = Image | str | Path | NDArray[Any] | np.ma.MaskedArray[Any, Any]

'''


def stub_text(imports: str) -> str:
    """Typed signatures of every kind and step, for editors and type checkers; `imports` names what else the package offers."""
    kinds, steps = (", ".join(f'"{name}"' for name in table) for table in (KINDS, STEPS))
    lines = [_STUB.format(imports=imports, kinds=kinds, steps=steps)]
    for name, step in STEPS.items():
        lines.append(_overload("prepare", "step", name, step.Parameters, step.purpose, "Image"))
    for name, detector in KINDS.items():
        lines.append(_overload("detect", "kind", name, detector.Parameters, detector.purpose, "Detection"))
    return "\n".join(lines)


def _overload(function: str, first: str, name: str, model: type[Parameters], purpose: str, result: str) -> str:
    lines = ["@overload", f"def {function}(", f'    {first}: Literal["{name}"],', "    image: ImageLike,", "    /,", "    *,"]
    for declared in model.declarations().values():
        hint = declared.type.hint() + (" | None" if declared.optional else "")
        required = declared.plain_default() is None and not declared.optional
        lines.append(f"    {declared.name}: {hint}{'' if required else ' = ...'},")
    if function == "detect":
        lines.append("    calibration: Calibration | str | Path | None = ...,")
    lines += ["    progress: Callable[[int, int, str], None] | None = ...,", "    cancelled: Callable[[], bool] | None = ...,"]
    return "\n".join([*lines, f") -> {result}:", f'    """{purpose}"""', ""])


def _parameters(model: type[Parameters]) -> list[dict[str, Any]]:
    return [
        {
            "name": d.name,
            "label": d.label,
            "unit": d.unit,
            "allowed": d.allowed,
            "default": d.plain_default(),
            "optional": d.optional,
            "stage": str(d.stage),
            "criterion": d.criterion,
            "help": d.help,
        }
        for d in model.declarations().values()
    ]


def reference_page() -> str:
    """`docs/reference.md`."""
    everything = described()
    lines = [
        "# Reference: steps, detectors, parameters, columns",
        "",
        "Made from the declarations in the code by `lucid-finch kinds --markdown`; do not edit by hand.",
        "",
    ]
    for title, group in (("Preparation steps", "steps"), ("Detectors", "detectors")):
        lines += [f"## {title}", ""]
        for name, about in everything[group].items():
            lines += [
                f"### `{name}`",
                "",
                about["purpose"],
                "",
                "| parameter | meaning | allowed | default |",
                "|---|---|---|---|",
            ]
            for p in about["parameters"]:
                default = "required" if p["default"] is None and not p["optional"] else f"`{p['default']}`"
                default = "auto" if p["default"] is None and p["optional"] else default
                lines.append(f"| `{p['name']}` | **{p['label']}.** {p['help']} | {p['allowed']} | {default} |")
            if "columns" in about:
                lines += ["", "| column | label | unit | meaning |", "|---|---|---|---|"]
                lines += [f"| `{c['name']}` | {c['label']} | {c['unit']} | {c['help']} |" for c in about["columns"]]
            lines.append("")
    return "\n".join(lines)
