"""The commands and their exit statuses: 0 done, 1 an image failed, 2 wrong command or parameter, 3 an expectation not met.

Modules of the package are imported inside the commands, so that `--help` answers at once.
"""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import click

from lucid_finch.command_line.calibrating import CALIBRATION_HELP, calibrate, rectify

DONE, IMAGE_FAILED, WRONG, UNMET = 0, 1, 2, 3


def _bits() -> click.Option:
    text = "How many bits of a 16-bit image count, where the file does not say; else guessed from the largest value."
    return click.Option(["--significant-bits"], type=click.IntRange(1, 16), metavar="BITS", help=text)


def _value_range() -> click.Option:
    text = "Which values are black and white, instead of those that the type of the pixels implies."
    return click.Option(["--value-range"], type=float, nargs=2, metavar="BLACK WHITE", help=text)


def _page() -> click.Option:
    return click.Option(["--page"], type=click.IntRange(0), default=0, metavar="N", help="Which picture of the file, from 0.")


_OVERWRITE = "Let results be written over the image that they are of, and over those of another recipe."
_OUTPUTS = "What is written of each image, separated by commas: findings, csv, parquet, svg, annotated, maps, crops."
_RUN_OUTPUTS = (
    "What is written, separated by commas; of each image: findings, csv, parquet, svg, annotated, maps, crops; of the whole run: "
    "table, table-parquet, lines, clip, map-clip. Default: findings,csv; of clips: lines,table."
)
_CLIP_FORMAT = "Clips that are written: mkv without loss, or webm, which is small."
_CROP_SIZE = "Width of the squares around findings, with the output crops."
_CROP_FITTED = "Enlarge or shrink them so that each finding, such as a face, fills its square."
_CROP_TURNED = "Turn them so that the direction (or angle) of each finding points to the right."


class _FromDeclarations(click.Group):
    """A group whose commands are the kinds of detectors, or the preparation steps, with options from the declarations."""

    def __init__(self, *, of: str, **options: Any) -> None:
        super().__init__(**options)
        self.of = of

    def _table(self) -> dict[str, Any]:
        if self.of == "detectors":
            from lucid_finch.core.detectors import KINDS

            return dict(KINDS)
        from lucid_finch.core.prepare import STEPS

        return dict(STEPS)

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self._table())

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        from lucid_finch.command_line.options import parameter_options

        table = self._table()
        if name not in table:
            from lucid_finch.core.errors import nearest

            what = "kind of detector" if self.of == "detectors" else "preparation step"
            raise click.UsageError(f'there is no {what} "{name}"{nearest(name, table)}; there are: {", ".join(table)}', ctx)
        owner = table[name]
        arguments: list[click.Parameter] = [
            click.Argument(["image"], metavar="IMAGE"), _bits(), _value_range(), _page(),
            click.Option(["--overwrite"], is_flag=True, help=_OVERWRITE),
        ]  # fmt: skip
        if self.of == "detectors":
            arguments += [
                click.Option(["--out"], metavar="DIR", help="Write results there."),
                click.Option(["--outputs"], default="findings,csv", show_default=True, metavar="LIST", help=_OUTPUTS),
                click.Option(["--json", "json_to"], metavar="FILE", help="Write the findings file there; - is stdout."),
                click.Option(["--save-map"], multiple=True, metavar="NAME", help="Also write this evidence map (needs --out)."),
                click.Option(["--map-format"], type=click.Choice(["png", "tif", "npy"]), default="png", show_default=True),
                click.Option(["--crop-size"], type=int, default=32, show_default=True, metavar="PX", help=_CROP_SIZE),
                click.Option(["--crop-turned"], is_flag=True, help=_CROP_TURNED),
                click.Option(["--crop-fitted"], is_flag=True, help=_CROP_FITTED),
                click.Option(["--calibration"], metavar="FILE", help=CALIBRATION_HELP),
            ]
            callback: Any = _detect
        else:
            arguments += [click.Option(["--out"], metavar="FILE", required=True, help="Where to write (.png, .tif, .npy).")]
            callback = _prepare

        def call(**values: Any) -> None:
            callback(name, owner.Parameters, values)

        return click.Command(name, params=[*arguments, *parameter_options(owner.Parameters)], callback=call, help=owner.purpose)


class _Commands(click.Group):
    """The commands; a path in the place of one is opened in the window."""

    def resolve_command(self, ctx: click.Context, args: list[str]) -> tuple[str | None, click.Command | None, list[str]]:
        if self.get_command(ctx, args[0]) is None and not ctx.resilient_parsing:
            if Path(args[0]).exists():
                return "open", open_, args
            from lucid_finch.core.errors import nearest

            known = self.list_commands(ctx)
            said = f'there is no command and no file "{args[0]}"{nearest(args[0], known)}; commands: {", ".join(known)}'
            raise click.UsageError(said, ctx)
        return super().resolve_command(ctx, args)


@click.group(
    cls=_Commands, invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110}
)
@click.version_option(package_name="lucid-finch", message="Lucid Finch %(version)s")
@click.pass_context
def cli(ctx: click.Context) -> None:
    """Lucid Finch: detect and localise edges and shapes in images, with the evidence always in sight.

    Without a command, opens the window.
    """
    if ctx.invoked_subcommand is None:
        _open_window([])


@cli.command("open")
@click.argument("paths", nargs=-1, metavar="[PATH]...")
def open_(paths: Sequence[str]) -> None:
    """Open images, folders, a clip, a camera or a recipe in the window."""
    _open_window(list(paths))


cli.add_command(_FromDeclarations(name="detect", of="detectors", help="Run one detector on one image: detect KIND IMAGE."))
cli.add_command(calibrate)
cli.add_command(rectify)
cli.add_command(_FromDeclarations(name="prepare", of="steps", help="Run one preparation step: prepare STEP IMAGE --out FILE."))


@cli.command()
@click.argument("recipe", metavar="RECIPE")
@click.argument("images", nargs=-1, required=True, metavar="IMAGE...")
@click.option("--out", metavar="DIR", help="Where the results of each image and summary.csv go.")
@click.option("--outputs", metavar="LIST", help=_RUN_OUTPUTS)
@click.option("--json-lines", metavar="FILE", help="Write the findings of each image as a line of JSON; - is stdout.")
@click.option("--jobs", type=click.IntRange(1), default=1, show_default=True, metavar="N", help="Number of processes.")
@click.option("--scheduler", default="", metavar="ADDRESS", help="Let the workers of this Dask scheduler do the images.")
@click.option("--resume", is_flag=True, help="Go on with an earlier run in DIR: only what is missing or has changed.")
@click.option("--retry", is_flag=True, help="With --resume: also the images that failed.")
@click.option("--watch", is_flag=True, help="Also take the images that arrive in the folders, until Ctrl-C.")
@click.option("--recursive", is_flag=True, help="Also take images in folders inside folders.")
@click.option("--page", metavar="N|all", help="Which picture of each file, from 0 (default), or all (default of a clip).")
@click.option("--every", type=click.IntRange(1), default=1, metavar="N", help="Of a clip, only every N-th frame.")
@click.option("--frames", type=click.IntRange(1), metavar="N", help="Of a camera, so many frames; else until Ctrl-C.")
@click.option("--clip-format", type=click.Choice(["mkv", "webm"]), default="mkv", show_default=True, help=_CLIP_FORMAT)
@click.option("--save-map", multiple=True, metavar="DETECTOR.NAME", help="Also write this evidence map of each image.")
@click.option("--map-format", type=click.Choice(["png", "tif", "npy"]), default="png", show_default=True)
@click.option("--crop-size", type=int, default=32, show_default=True, metavar="PX", help=_CROP_SIZE)
@click.option("--crop-turned", is_flag=True, help=_CROP_TURNED)
@click.option("--crop-fitted", is_flag=True, help=_CROP_FITTED)
@click.option("--calibration", metavar="FILE", help=CALIBRATION_HELP + " Takes the place of the recipe's own.")
@click.option("--significant-bits", type=click.IntRange(1, 16), metavar="BITS", help="As for detect.")
@click.option("--value-range", type=float, nargs=2, metavar="BLACK WHITE", help="As for detect.")
@click.option("--overwrite", is_flag=True, help=_OVERWRITE)
def run(recipe: str, images: Sequence[str], **values: Any) -> None:
    """Run a recipe over images, folders of them, clips or a camera; - is an image from stdin."""
    from lucid_finch.command_line.batch import given_images, run_batch
    from lucid_finch.files.recipes import Recipe
    from lucid_finch.pipeline.batch import Batch
    from lucid_finch.pipeline.sinks import DEFAULT_OUTPUTS, OUTPUTS_OF_CLIPS, Outputs
    from lucid_finch.pipeline.sources import ReadOptions
    from lucid_finch.pipeline.whole_run import Wish

    out, lines, overwrite = values["out"], values["json_lines"], values["overwrite"]
    if out is None and lines is None:
        raise click.UsageError("say where the results go: --out DIR, --json-lines FILE, or both")
    if values["retry"] and not values["resume"]:
        raise click.UsageError("--retry goes with --resume")
    loaded = Recipe.load(recipe, calibration=values["calibration"])
    given = given_images(images, values)
    usual = OUTPUTS_OF_CLIPS if given.are_frames else DEFAULT_OUTPUTS
    outputs = Outputs.named(
        _listed(values["outputs"]) if values["outputs"] is not None else usual,
        maps=tuple(values["save_map"]),
        map_format=values["map_format"],
        crop_size=values["crop_size"],
        crop_turned=values["crop_turned"],
        crop_fitted=values["crop_fitted"],
        clip_format=values["clip_format"],
        overwrite=overwrite,
    )
    batch = Batch(
        recipe=loaded,
        out=Path(out) if out is not None else None,
        outputs=outputs,
        options=ReadOptions(values["significant_bits"], values["value_range"] or None),
        kept=() if overwrite else given.files,
        lines=lines is not None,
    )
    wish = Wish(values["jobs"], values["scheduler"], values["resume"], values["retry"])
    failed, unmet = run_batch(batch, given.rounds, given.total, wish, lines, overwrite)
    sys.exit(IMAGE_FAILED if failed else UNMET if unmet else DONE)


def _listed(text: str) -> list[str]:
    return [part for part in (piece.strip() for piece in text.split(",")) if part]


def _path(given: str) -> Path:
    """The path of an image that was named on the command line; - is stdin."""
    return Path("/dev/stdin") if given == "-" else Path(given)


@cli.command()
def cameras() -> None:
    """List the cameras that can be opened, with their sizes and rates."""
    from lucid_finch.pipeline.cameras import cameras as found

    for entry in found():
        click.echo(f"{entry.source}  {entry.label}")
        for size in entry.sizes:
            click.echo(f"    {size}")


@cli.command()
@click.argument("scenes", nargs=-1, metavar="[SCENE]...")
@click.option("--out", default="finch-demo", show_default=True, metavar="DIR", help="Where scenes, truth and results go.")
@click.option("--window", is_flag=True, help="Open the first scene in the window instead.")
@click.option("--screenshot", is_flag=True, help="Also write a picture of the window on the first scene.")
def demo(scenes: Sequence[str], out: str, window: bool, screenshot: bool) -> None:
    """Run the demo recipes over the demo scenes and write everything, truth included."""
    from lucid_finch.demo import SCENES

    if window:
        _open_window([], [*scenes, *SCENES][0])
    from lucid_finch.command_line.batch import run_demo

    failed, unmet = run_demo(scenes, Path(out))
    if screenshot:
        with _with_qt():
            from lucid_finch.desktop.shell.screenshots import take_demo
        take_demo([*scenes, *SCENES][0], Path(out) / "window.png")
    click.echo(f"the demo's pictures, truth, findings and screenshot are in {Path(out).resolve()}")
    sys.exit(IMAGE_FAILED if failed else UNMET if unmet else DONE)


@cli.command()
@click.argument("kind", required=False)
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
@click.option("--markdown", is_flag=True, help="The reference page.")
@click.option("--schema", is_flag=True, help="The JSON Schema of recipe files.")
@click.option("--stub", is_flag=True, help="The typed signatures of the Python package.")
def kinds(kind: str | None, as_json: bool, markdown: bool, schema: bool, stub: bool) -> None:
    """List every detector and step with its parameters, from the code's own declarations."""
    import json

    from lucid_finch.command_line.stub import public_stub
    from lucid_finch.core.documentation import described, reference_page
    from lucid_finch.core.errors import nearest
    from lucid_finch.core.recipe import json_schema

    if schema or markdown or stub:
        click.echo(json.dumps(json_schema(), indent=2) if schema else public_stub() if stub else reference_page(), nl=schema)
        return
    everything = described()
    if kind is not None:
        known = {**everything["steps"], **everything["detectors"]}
        if kind not in known:
            raise click.UsageError(f'there is no "{kind}"{nearest(kind, known)}; there are: {", ".join(known)}')
        everything = {group: {n: a for n, a in members.items() if n == kind} for group, members in everything.items()}
    if as_json:
        click.echo(json.dumps(everything, indent=2))
        return
    for group, members in everything.items():
        for name, about in members.items():
            click.echo(f"{name}  ({group[:-1]})  {about['purpose']}")
            for p in about["parameters"] if kind is not None else []:
                option = "--" + p["name"].replace("_", "-")
                click.echo(f"    {option:16} {p['help']} ({p['allowed']}; default: {p['default']})")


@cli.command()
@click.argument("recipe", metavar="RECIPE")
@click.argument("image", metavar="IMAGE")
@click.option("--out", required=True, metavar="FILE", help="Where to write the recipe with its values as numbers.")
def freeze(recipe: str, image: str, out: str) -> None:
    """Write a recipe with automatic values replaced by those that it uses on an image."""
    from lucid_finch.core.execution.engine import Engine
    from lucid_finch.core.recipe import frozen
    from lucid_finch.files.images import read_image
    from lucid_finch.files.recipes import Recipe
    from lucid_finch.files.writing import inputs_kept, write_text

    loaded = Recipe.load(recipe)
    with _reading():
        read = read_image(image)
    with inputs_kept([image]):
        write_text(out, frozen(loaded, Engine().run(loaded, read).detections).text())


@cli.command()
@click.option("--command", metavar="COMMAND", help="What the menu entry starts, instead of this program.")
def install(command: str | None) -> None:
    """Add the menu entry, the icon and the file type of recipes to this user's desktop."""
    import shlex

    from lucid_finch.command_line.integration import install as add

    start = command or f"{shlex.quote(str(Path(sys.argv[0]).resolve()))} open"
    for path in add(start):
        click.echo(path)


@cli.command()
def uninstall() -> None:
    """Take away what `install` has added."""
    from lucid_finch.command_line.integration import uninstall as remove

    for path in remove():
        click.echo(f"removed {path}")


@cli.command(hidden=True)
def kernels() -> None:
    """Compile the kernels behind a progress bar, which the launcher does once; prints the file that marks them as compiled."""
    from lucid_finch.command_line.warming import warm_up

    click.echo(warm_up())


@cli.command(hidden=True)
@click.option("--out", default="docs/screenshots", metavar="DIR")
def shot(out: str) -> None:
    """Make all pictures of the documentation afresh."""
    with _with_qt():
        from lucid_finch.desktop.shell.screenshots import take_all
    take_all(Path(out))


def _open_window(paths: list[str], demo: str = "") -> None:
    with _with_qt():
        from lucid_finch.desktop.shell.application import run_application
    sys.exit(run_application(paths, demo=demo) if demo else run_application(paths))


@contextlib.contextmanager
def _with_qt() -> Iterator[None]:
    """Within it the window's modules are imported; says what to install where Qt is missing."""
    try:
        yield
    except ModuleNotFoundError as error:
        if (error.name or "").partition(".")[0] not in ("PySide6", "shiboken6"):
            raise
        raise click.UsageError("the window needs PySide6: pip install 'lucid-finch[window]'") from error


def _detect(kind: str, model: Any, values: dict[str, Any]) -> None:
    from lucid_finch.command_line.options import given_parameters
    from lucid_finch.core.execution.engine import Engine
    from lucid_finch.core.recipe import VERSION
    from lucid_finch.files.assets import with_pictures
    from lucid_finch.files.calibrations import Calibration
    from lucid_finch.files.findings import write_findings
    from lucid_finch.files.images import read_image
    from lucid_finch.files.recipes import Recipe
    from lucid_finch.files.writing import inputs_kept
    from lucid_finch.pipeline.sinks import Outputs, check_maps, write_results
    from lucid_finch.pipeline.sources import Place

    path, out, json_to = _path(values.pop("image")), values.pop("out"), values.pop("json_to")
    page, kinds = values.pop("page"), values.pop("outputs")
    calibration = values.pop("calibration")
    overwrite = values.pop("overwrite")
    kept = () if overwrite else (path,)
    maps, map_format = values.pop("save_map"), values.pop("map_format")
    bits, black_white = values.pop("significant_bits"), values.pop("value_range")
    if maps and out is None:
        raise click.UsageError("--save-map needs --out DIR")
    maps = tuple(f"{kind}.{name}" for name in maps)
    crops = {name: values.pop(name) for name in ("crop_size", "crop_turned", "crop_fitted")}
    outputs = Outputs.named(_listed(kinds), maps=maps, map_format=map_format, overwrite=overwrite, **crops)
    with _reading():
        given, pictures, _ = with_pictures(model, given_parameters(model, values), read_image)
    parameters = model.make(given, kind)
    entry = {"name": kind, "kind": kind, "parameters": parameters.plain()}
    assets = {name: picture.model_dump() for name, picture in pictures.items()}
    calibrated = Calibration.load(calibration).plain() if calibration is not None else None
    plain = {"lucid_finch_recipe": VERSION, "name": kind, "detectors": [entry], "assets": assets, "calibration": calibrated}
    recipe = Recipe.make(plain)
    check_maps(recipe, maps)
    with _reading():
        image = read_image(path, page=page, significant_bits=bits, value_range=black_white)
    result = Engine().run(recipe, image)
    if json_to == "-":
        from lucid_finch.files.findings import findings_document, json_text

        click.echo(json_text(findings_document(result, path)))
    with inputs_kept(kept):
        if json_to not in (None, "-"):
            write_findings(json_to, result, path)
        if out is not None:
            write_results(result, Path(out), Place(path, page).result_name, path, outputs)
    if json_to is None and out is None:
        _print_table(result.detections[kind])
    elif json_to != "-":
        found = result.detections[kind]
        click.echo(f"{len(found.findings)} findings, {len(found.near_misses)} near misses", err=True)


def _print_table(detection: Any) -> None:
    columns = [c for c in detection.findings.declared.values() if c.name != "rank"]
    click.echo("\t".join(c.name for c in columns))
    for row in detection.findings.rows():
        cells = (row[c.name] for c in columns)
        click.echo(
            "\t".join(f"{v:.{c.digits}f}" if isinstance(v, float) else str(v) for c, v in zip(columns, cells, strict=True))
        )
    click.echo(f"{len(detection.findings)} findings, {len(detection.near_misses)} near misses", err=True)


def _prepare(step: str, model: Any, values: dict[str, Any]) -> None:
    from lucid_finch.command_line.options import given_parameters
    from lucid_finch.core.prepare import step_of
    from lucid_finch.files.images import read_image
    from lucid_finch.files.maps import write_image
    from lucid_finch.files.writing import inputs_kept

    path, out, page = _path(values.pop("image")), values.pop("out"), values.pop("page")
    bits, black_white = values.pop("significant_bits"), values.pop("value_range")
    kept = () if values.pop("overwrite") else (path,)
    parameters = model.make(given_parameters(model, values), step)
    with _reading():
        image = read_image(path, page=page, significant_bits=bits, value_range=black_white)
    with inputs_kept(kept):
        write_image(out, step_of(step).run(image, parameters))


@contextlib.contextmanager
def _reading() -> Iterator[None]:
    """An image that cannot be read ends the command with the status for that."""
    from lucid_finch.core.errors import FileError

    try:
        yield
    except FileError as error:
        click.echo(f"lucid-finch: {error}", err=True)
        sys.exit(IMAGE_FAILED)


def main(arguments: Sequence[str] | None = None) -> None:
    """Run the command line; errors become one line on stderr and an exit status."""
    try:
        cli.main(args=list(arguments) if arguments is not None else None, prog_name="lucid-finch", standalone_mode=False)
    except click.exceptions.Exit as finished:
        sys.exit(finished.exit_code)
    except click.Abort:
        click.echo("lucid-finch: stopped", err=True)
        sys.exit(130)
    except click.ClickException as error:
        error.show()
        sys.exit(WRONG)
    except BrokenPipeError:
        sys.exit(DONE)
    except (ValueError, OSError) as error:
        from lucid_finch.core.errors import FileError, ParameterError

        if not isinstance(error, (FileError, ParameterError)):
            raise
        click.echo(f"lucid-finch: {error}", err=True)
        sys.exit(WRONG)
