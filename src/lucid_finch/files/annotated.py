"""Draws findings on the picture: marks with a dark halo, numbers readable at any size of picture."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from lucid_finch.core.detection import Detection
from lucid_finch.core.errors import ParameterError, nearest
from lucid_finch.core.execution.engine import Run
from lucid_finch.core.recipe import MarkStyle
from lucid_finch.core.viewing.display import colour_table, picture_of
from lucid_finch.core.viewing.mark_colours import mark_colours
from lucid_finch.files.maps import RESULT, write_png

_HALO = (16, 18, 20, 170)
_LEAST_WIDTH = 640
_MOST_NUMBERS = 400
_MOST_JOINTS = 64


def annotated_picture(run: Run, style: MarkStyle | None = None, factor: int | None = None) -> Any:
    """A Pillow picture in `style`, else that of the recipe; `factor` times as large, or so that numbers can be read."""
    import PIL.Image
    from PIL import ImageDraw, ImageFont

    style = style if style is not None else run.recipe.marks
    base = PIL.Image.fromarray(picture_of(run.image)).convert("RGB")
    factor = factor or max(1, -(-_LEAST_WIDTH // max(base.size)))
    if factor > 1:
        base = base.resize((base.width * factor, base.height * factor), PIL.Image.Resampling.NEAREST)
    diagonal = float(np.hypot(*base.size))
    thickness = style.thickness or max(1.4, diagonal / 900)
    text_size = style.text_size or max(12.0, diagonal / 100)
    # Lines are drawn twice as large and averaged down, for smooth ones.
    fine = 2 if base.width * base.height <= 12_000_000 else 1
    layer = PIL.Image.new("RGBA", (base.width * fine, base.height * fine), (0, 0, 0, 0))
    pen = ImageDraw.Draw(layer)
    marks: list[tuple[str, Any, float, float, str]] = []
    own = mark_colours(run.recipe)
    for name, d in run.detections.items():
        colours = _colours(d, style, own[name])
        for row in range(len(d.findings)):
            x, y = d.place(row)
            outline = np.asarray(d.outlines[row] if len(d.outlines) else [(x - 2, y), (x + 2, y)], float)
            if len(d.outlines) and d.outlines.closed[row]:
                outline = np.concatenate([outline, outline[:1]])
            marks.append((colours[row], (outline + 0.5) * factor * fine, x, y, d.label(row)))
    for width, paint in ((thickness + 1.8, lambda colour: _HALO), (thickness, lambda colour: colour)):
        for colour, outline, *_ in marks:
            # Joints cost as much as the line; between points a pixel apart nobody sees them.
            joint = "curve" if len(outline) <= _MOST_JOINTS else None
            pen.line(outline.ravel().tolist(), fill=paint(colour), width=max(1, round(width * fine)), joint=joint)
    if fine > 1:
        layer = layer.resize(base.size, PIL.Image.Resampling.BOX)
    if style.numbers:
        pen = ImageDraw.Draw(layer)
        font = ImageFont.load_default(text_size)
        for colour, _, x, y, label in marks[:_MOST_NUMBERS]:
            place = (
                min(max((x + 0.5) * factor, text_size), base.width - text_size),
                min(max((y + 0.5) * factor, text_size), base.height - text_size),
            )
            box = pen.textbbox(place, label, font=font, anchor="mm")
            pad = text_size * 0.22
            pen.rounded_rectangle((box[0] - pad, box[1] - pad, box[2] + pad, box[3] + pad), pad * 1.5, fill=(16, 18, 20, 215))
            pen.text(place, label, fill=colour, font=font, anchor="mm")
    return PIL.Image.alpha_composite(base.convert("RGBA"), layer).convert("RGB")


def write_annotated(path: str | Path, run: Run, style: MarkStyle | None = None) -> None:
    """`annotated_picture` as PNG. Raises `FileError`, `ParameterError`."""
    write_png(path, annotated_picture(run, style), RESULT)


def _colours(d: Detection, style: MarkStyle, own: str) -> list[str]:
    if style.colour_by:
        if style.colour_by not in d.findings:
            known = d.findings.columns
            raise ParameterError(f'colour_by: "{style.colour_by}" is no column{nearest(style.colour_by, known)}', "colour_by")
        values = np.nan_to_num(np.asarray(d.findings.stored(style.colour_by), float))
        spread = float(np.ptp(values)) if len(values) else 0.0
        place = (values - values.min()) / spread if spread else np.full(len(values), 0.5)
        table = colour_table("signed")
        return ["#%02x%02x%02x" % tuple(table[round(255 * p)]) for p in place]  # noqa: UP031
    return [style.colour or own] * len(d.findings)
