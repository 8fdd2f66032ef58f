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
