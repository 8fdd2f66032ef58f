"""The typed signatures of the package, from the declarations and from what the API offers."""

from __future__ import annotations

from lucid_finch import api
from lucid_finch.core.documentation import stub_text

_OWN = {
    "run": """def run(
    recipe: Recipe | str | Path,
    image: ImageLike,
    /,
    *,
    progress: Callable[[int, int, str], None] | None = ...,
    cancelled: Callable[[], bool] | None = ...,
) -> Run: ...""",
    "kinds": "def kinds() -> dict[Kind, dict[str, Any]]: ...",
    "steps": "def steps() -> dict[Step, dict[str, Any]]: ...",
    "detect": "",
    "prepare": "",
}
"""Functions of the API itself; `detect` and `prepare` have a signature for each kind and step."""


def public_stub() -> str:
    """The text of `__init__.pyi`."""
    others = [name for name in api.__all__ if name not in _OWN]
    imports = [f"from {getattr(api, name).__module__} import {name} as {name}" for name in others]
    listed = ", ".join(f'"{name}"' for name in api.__all__)
    parts = [stub_text("\n".join(sorted(imports))), *(text for text in _OWN.values() if text), f"__all__ = [{listed}]"]
    return "\n".join(parts) + "\n"
