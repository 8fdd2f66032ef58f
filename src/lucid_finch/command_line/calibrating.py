"""The commands `calibrate` and `rectify`."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click

CALIBRATION_HELP = (
    "A calibration (NAME.calibration.json): findings then carry millimetres, too, and lengths may be such as 1.2mm."
)


@click.command()
@click.argument("images", nargs=-1, required=True, metavar="IMAGE...")
@click.option("--target", type=click.Choice(["chessboard", "dots", "line"]), default="chessboard", show_default=True)
@click.option("--columns", type=click.IntRange(3), metavar="N", help="Inner corners or dots along the target; else as seen.")
@click.option("--rows", type=click.IntRange(3), metavar="N", help="The same across.")
@click.option("--pitch", type=float, required=True, metavar="MM", help="From one point to the next; of a line, its length.")
@click.option("--line", type=float, nargs=4, metavar="X1 Y1 X2 Y2", help="Its ends in px, with --target line.")
@click.option("--name", default="", metavar="TEXT", help="What outputs call it; else the name of the file.")
@click.option("--out", required=True, metavar="FILE", help="Where it goes, such as bench.calibration.json.")
@click.option("--residuals", metavar="DIR", help="Also write each picture with its residuals as arrows.")
@click.option("--overwrite", is_flag=True, help="Let it replace a file that is there.")
def calibrate(images: Sequence[str], out: str, residuals: str | None, overwrite: bool, **values: Any) -> None:
    """Make a calibration from pictures of a target; millimetres are of its plane in the first picture."""
    from lucid_finch.core.errors import FileError
    from lucid_finch.core.inspection.calibrating import calibrate as make
    from lucid_finch.core.inspection.calibrating import remarks
    from lucid_finch.core.inspection.calibration import ENDING
    from lucid_finch.files.calibrations import Calibration
    from lucid_finch.files.images import read_image
    from lucid_finch.files.writing import inputs_kept

    if Path(out).exists() and not overwrite:
        raise FileError(out, "is there already; choose another name, or pass --overwrite")
    read = [read_image(image) for image in images]
    ends = values.pop("line")
    line = (ends[:2], ends[2:]) if ends else None
    values["name"] = values["name"] or Path(out).name.removesuffix(ENDING)
    made = Calibration.of(make(read, line=line, progress=_told, **values))
    with inputs_kept(images):
        made.save(out)
        for number, image in enumerate(read if residuals is not None else ()):
            made.save_residuals(Path(residuals or "") / f"{Path(images[number]).stem}.residuals.png", image, number)
    click.echo(f"{out}: {summary(made)}", err=True)
    for remark in remarks(made):
        click.echo(f"lucid-finch: {remark}", err=True)


def summary(made: Any) -> str:
    """A calibration in a line."""
    text = f"{made.mm_per_px:.6g} +- {made.mm_per_px_std:.2g} mm/px in the middle"
    if made.target != "line":
        text += f", {sum(len(view.x) for view in made.views)} points in {len(made.views)} pictures, {made.rms:.3f} px rms"
    if made.tilt is not None:
        text += f", tilted {made.tilt:.1f} deg, focal length {made.focal_length:.0f} px"
    return text


def _told(done: int, total: int, name: str) -> None:
    if sys.stderr.isatty() and done < total:
        click.echo(f"{done + 1} of {total}: {name}", err=True)


@click.command()
@click.argument("image", metavar="IMAGE")
@click.option("--calibration", required=True, metavar="FILE", help="The calibration of the camera that made the picture.")
@click.option("--keep-perspective", is_flag=True, help="Only remove the bending of the lens.")
@click.option("--out", required=True, metavar="FILE", help="Where to write (.png, .tif, .npy).")
def rectify(image: str, calibration: str, keep_perspective: bool, out: str) -> None:
    """Write a picture as seen straight from above the calibrated plane, without the bending of the lens."""
    from lucid_finch.core.inspection.rectifying import rectification
    from lucid_finch.files.calibrations import Calibration
    from lucid_finch.files.images import read_image
    from lucid_finch.files.maps import write_image
    from lucid_finch.files.writing import inputs_kept

    made = rectification(Calibration.load(calibration), not keep_perspective)
    with inputs_kept([image]):
        write_image(out, made.picture(read_image(image)))
    if made.from_above:
        click.echo(f"{out}: {made.step:.6g} mm/px; pixel (0, 0) is at ({made.left:.4f}, {made.top:.4f}) mm", err=True)
