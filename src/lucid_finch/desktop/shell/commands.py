"""All that can be done at the bench: names, texts, shortcuts and what each calls, in the order of the menus."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtGui import QAction, QKeySequence

from lucid_finch.desktop.shell.actions import Actions

if TYPE_CHECKING:
    from lucid_finch.desktop.shell.window import Bench


def bench_actions(bench: Bench) -> Actions:
    """The actions of one window, by group."""
    keys = QKeySequence.StandardKey
    actions = Actions(bench)
    add, switch = actions.add, actions.add_switch
    file, edit, look = bench.tr("File"), bench.tr("Recipe"), bench.tr("View")
    choose, window = bench.tr("Findings"), bench.tr("Window")
    add(file, "open", bench.tr("Open…"), bench.open_dialog, keys.Open, bench.tr("Open images or a recipe"))
    tip = bench.tr("Its images as a list")
    add(file, "open_folder", bench.tr("Open a folder…"), bench.open_folder_dialog, "Ctrl+Shift+O", tip)
    add(file, "demo", bench.tr("Open the demo"), bench.open_demo, None, bench.tr("A panel of made-up tiles, with its recipe"))
    tip = bench.tr("Made-up chips of glaze that differ from the cloth in hue alone, with a recipe")
    add(file, "demo_colour", bench.tr("Open the demo in colour"), partial(bench.open_demo, "glaze_swatches"), None, tip)
    tip = bench.tr("A made-up dipped tile: one boundary of glaze with drips, and its angle")
    add(file, "demo_boundary", bench.tr("Open the demo of a boundary"), partial(bench.open_demo, "glaze_edge"), None, tip)
    tip = bench.tr("A made-up pierced screen: holes, bosses and plugged holes nearly as light as the body")
    add(file, "demo_screen", bench.tr("Open the demo of a pierced screen"), partial(bench.open_demo, "pierced_screen"), None, tip)
    tip = bench.tr("The same kind of screen leaning away: its round holes are seen as ellipses")
    add(
        file, "demo_leaning", bench.tr("Open the demo of a leaning screen"), partial(bench.open_demo, "leaning_screen"), None, tip
    )
    tip = bench.tr("Made-up mosaic pieces on a cloth in uneven light, with holes and pieces in them")
    add(file, "demo_pieces", bench.tr("Open the demo of cut-out pieces"), partial(bench.open_demo, "cutouts"), None, tip)
    add(file, "next_image", bench.tr("Next image"), lambda: bench.images.step(1), "PgDown")
    add(file, "image_before", bench.tr("Image before"), lambda: bench.images.step(-1), "PgUp")
    add(file, "next_wrong", bench.tr("Next image not as expected"), bench.images.go_to_wrong, "Ctrl+PgDown")
    add(file, "save", bench.tr("Save recipe"), bench.save, keys.Save)
    add(file, "save_as", bench.tr("Save recipe as…"), bench.save_as, keys.SaveAs)
    tip = bench.tr("Write findings, tables and pictures to a folder")
    add(file, "export", bench.tr("Export…"), bench.exporter.export_dialog, "Ctrl+E", tip)
    tip = bench.tr("The map of the active pane, as picture, float TIFF or NumPy array")
    add(file, "save_map", bench.tr("Save this map…"), bench.exporter.save_map_dialog, "Ctrl+M", tip)
    tip = bench.tr("The map of the active pane, worked out for each image of the list")
    add(file, "save_maps", bench.tr("Save this map of every image…"), bench.exporter.save_maps_dialog, "Ctrl+Shift+M", tip)
    add(file, "quit", bench.tr("Quit"), bench.close, keys.Quit)
    undo, redo = bench.study.undo.createUndoAction(bench), bench.study.undo.createRedoAction(bench)
    actions.take(edit, "undo", undo, keys.Undo)
    actions.take(edit, "redo", redo, keys.Redo)
    study, column = bench.study, bench.column
    for name, text, call, shortcut in (
        ("rename", bench.tr("Rename the chosen card"), column.rename_chosen, "F2"),
        ("duplicate", bench.tr("Duplicate the chosen card"), lambda: study.duplicate(study.chosen), "Ctrl+D"),
        ("move_up", bench.tr("Move the chosen card up"), lambda: study.move(study.chosen, -1), "Alt+Up"),
        ("move_down", bench.tr("Move the chosen card down"), lambda: study.move(study.chosen, 1), "Alt+Down"),
        ("switch", bench.tr("Switch the chosen card on or off"), bench.switch_chosen, "Ctrl+."),
        ("remove", bench.tr("Remove the chosen card"), lambda: study.remove(study.chosen), "Ctrl+Del"),
    ):
        add(edit, name, text, partial(bench.with_card, call), shortcut)
    for button in (column.add_step, column.add_detector):
        for action in button.menu().actions():
            actions.take(edit, f"add {action.text()}", _same(bench, action, f"{button.text()} {action.text()}"))
    add(look, "fit", bench.tr("Fit the image"), lambda: bench.active_frame.pane.fit(), "F")
    add(look, "one_to_one", bench.tr("One pixel to one pixel"), bench.one_to_one, "1")
    add(look, "zoom_chosen", bench.tr("Zoom to what is chosen"), bench.zoom_to_chosen, "Z")
    for count, text, shortcut in (
        (1, bench.tr("One pane"), "Ctrl+1"), (2, bench.tr("Two panes"), "Ctrl+2"), (4, bench.tr("Four panes"), "Ctrl+4")
    ):  # fmt: skip
        add(look, f"panes_{count}", text, partial(bench.set_panes, count), shortcut)
    for what, text in (
        ("zoom", bench.tr("Panes share the zoom")),
        ("place", bench.tr("Panes share the place")),
        ("cursor", bench.tr("Panes share the cursor")),
    ):
        switch(look, f"link_{what}", text, partial(bench.panes.set_linked, what), True)
    tip = bench.tr("Hatched where the result rests on what stands for pixels beyond the border")
    switch(look, "shade", bench.tr("Hatch what the border makes unsure"), bench.panes.set_shaded, False, "B", tip)
    add(look, "range", bench.tr("Display range of the active pane…"), lambda: bench.active_frame.open_range(), "R")
    add(look, "map_menu", bench.tr("Map of the active pane…"), lambda: bench.active_frame.title.showMenu(), "M")
    tip = bench.tr("Then click where something was expected; or Shift+click")
    switch(choose, "ask", bench.tr("Ask why"), bench.set_asking, False, "W", tip)
    tip = bench.tr("Chosen rows, or all, as tab-separated text")
    add(choose, "copy", bench.tr("Copy the table"), bench.copy_table, "Ctrl+Shift+C", tip)
    tip = bench.tr("For example: length > 50 and closed = yes")
    add(choose, "filter", bench.tr("Show only some rows"), bench.go_to_filter, "Ctrl+F", tip)
    add(choose, "columns", bench.tr("Columns of the table, colours of the marks…"), bench.open_column_menu, "Ctrl+Shift+L")
    measure = bench.tr("Measure")
    for kind, text, shortcut in (
        ("line", bench.tr("Measure a line, with its profile"), "L"),
        ("box", bench.tr("Measure a box"), "Shift+B"),
        ("circle", bench.tr("Measure a circle through three points"), "Shift+C"),
        ("angle", bench.tr("Measure the angle between two lines"), "Shift+A"),
    ):
        add(measure, f"measure_{kind}", text, partial(bench.start_measuring, kind), shortcut)
    tip = bench.tr("Draw a line across an object, its diameter: sizes around half of it are looked for")
    add(measure, "ruler", bench.tr("Size by ruler"), bench.adopter.start_ruler, "Shift+L", tip)
    tip = bench.tr("Look for sizes around that of the chosen finding")
    add(measure, "similar", bench.tr("Look for sizes like the chosen one"), bench.adopter.like_chosen, "Shift+K", tip)
    add(measure, "numbers", bench.tr("Numbers under the cursor"), bench.show_numbers, "N")
    add(window, "find", bench.tr("Search all actions"), lambda: bench.finder.open(), "Ctrl+K")
    add(window, "help", bench.tr("Help"), bench.show_help, keys.HelpContents)
    add(window, "theme", bench.tr("Light or dark"), bench.toggle_theme, "Ctrl+T")
    add(window, "larger", bench.tr("Larger text"), lambda: bench.scale_text(1.1), keys.ZoomIn)
    add(window, "smaller", bench.tr("Smaller text"), lambda: bench.scale_text(1 / 1.1), keys.ZoomOut)
    add(window, "another", bench.tr("Another window"), bench.open_another, "Ctrl+Shift+N")
    add(window, "cancel", bench.tr("Cancel the work"), bench.cancel)
    return actions


def _same(bench: Bench, action: QAction, text: str) -> QAction:
    """An action of its own that does what a menu's action does."""
    own = QAction(text, bench)
    own.triggered.connect(action.trigger)
    return own
