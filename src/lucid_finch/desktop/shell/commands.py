"""All actions: names, texts, shortcuts and what each calls, in the order of the menus."""

from __future__ import annotations

from functools import partial

from PySide6.QtGui import QAction, QKeySequence

from lucid_finch.demo import CLIPS, SCENES, ClipEntry, SceneEntry
from lucid_finch.desktop.shell.actions import Actions
from lucid_finch.desktop.shell.apply_to_parameters import Applier
from lucid_finch.desktop.shell.exporting import Exporter
from lucid_finch.desktop.shell.parts import Parts
from lucid_finch.desktop.toolkit.keyboard import focus_part
from lucid_finch.pipeline.cameras import SIMULATED

KEYS = QKeySequence.StandardKey


def window_actions(parts: Parts, exporter: Exporter, applier: Applier) -> Actions:
    """The actions of one window, by group; the window adds its own."""
    actions = Actions(parts)
    _file_actions(parts, exporter, actions)
    _recipe_actions(parts, actions)
    _view_actions(parts, actions)
    _clip_actions(parts, actions)
    _finding_actions(parts, actions)
    _measure_actions(parts, applier, actions)
    return actions


def _file_actions(parts: Parts, exporter: Exporter, actions: Actions) -> None:
    """Opening, saving, exporting."""
    add = actions.add
    file = parts.tr("File")
    tip = parts.tr("A recipe with one detector; the image stays")
    add(file, "new", parts.tr("New recipe"), parts.documents.new_recipe, KEYS.New, tip)
    add(file, "open", parts.tr("Open…"), parts.documents.open_dialog, KEYS.Open, parts.tr("Open images or a recipe"))
    tip = parts.tr("Its images as a list")
    add(file, "open_folder", parts.tr("Open a folder…"), parts.documents.open_folder_dialog, "Ctrl+Shift+O", tip)
    tip = parts.tr("The picture in the clipboard; or rows of numbers, which become an image")
    add(file, "paste", parts.tr("Paste as an image"), parts.documents.paste, "Ctrl+Shift+V", tip)
    known: dict[str, SceneEntry | ClipEntry] = {**SCENES, **CLIPS}
    for number, (name, about) in enumerate(known.items()):
        key = "demo" if number == 0 else f"demo_{name}"
        add(
            file,
            key,
            parts.tr("Open the demo: {}").format(about.title),
            partial(parts.documents.open_demo, name),
            None,
            about.purpose,
        )
    add(file, "close_image", parts.tr("Close the image"), parts.documents.close_image, KEYS.Close, parts.tr("The recipe stays"))
    add(file, "next_image", parts.tr("Next image"), lambda: parts.drawer.images.step(1), "PgDown")
    add(file, "image_before", parts.tr("Previous image"), lambda: parts.drawer.images.step(-1), "PgUp")
    add(file, "next_wrong", parts.tr("Next image that misses an expectation"), parts.drawer.images.go_to_wrong, "Ctrl+PgDown")
    add(file, "save", parts.tr("Save recipe"), parts.documents.save, KEYS.Save)
    add(file, "save_as", parts.tr("Save recipe as…"), parts.documents.save_as, KEYS.SaveAs)
    tip = parts.tr("Write findings, tables and pictures to a folder")
    add(file, "export", parts.tr("Export…"), exporter.export_dialog, "Ctrl+E", tip)
    tip = parts.tr("The map of the active pane, as picture, float TIFF or NumPy array")
    add(file, "save_map", parts.tr("Save this map…"), exporter.save_map_dialog, "Ctrl+M", tip)
    tip = parts.tr("The map of the active pane, computed for each image of the list")
    add(file, "save_maps", parts.tr("Save this map of every image…"), exporter.save_maps_dialog, "Ctrl+Shift+M", tip)


def _recipe_actions(parts: Parts, actions: Actions) -> None:
    """Undo, and what is done to the selected card."""
    add = actions.add
    edit = parts.tr("Recipe")
    undo, redo = parts.study.undo.createUndoAction(parts), parts.study.undo.createRedoAction(parts)
    actions.take(edit, "undo", undo, KEYS.Undo)
    actions.take(edit, "redo", redo, KEYS.Redo)
    # Both keys that people know for it.
    redo.setShortcuts([QKeySequence("Ctrl+Shift+Z"), QKeySequence("Ctrl+Y")])
    study, column = parts.study, parts.recipe_cards
    for name, text, call, shortcut in (
        ("rename", parts.tr("Rename the selected card"), column.rename_chosen, "F2"),
        ("duplicate", parts.tr("Duplicate the selected card"), lambda: study.duplicate(study.chosen), "Ctrl+D"),
        ("move_up", parts.tr("Move the selected card up"), lambda: study.move(study.chosen, -1), "Alt+Up"),
        ("move_down", parts.tr("Move the selected card down"), lambda: study.move(study.chosen, 1), "Alt+Down"),
        ("switch", parts.tr("Switch the selected card on or off"), study.switch_chosen, "Ctrl+."),
        ("remove", parts.tr("Remove the selected card"), lambda: study.remove(study.chosen), "Ctrl+Del"),
    ):
        add(edit, name, text, partial(column.do_to_chosen, call), shortcut)
    for button in (column.add_step, column.add_detector):
        for action in button.menu().actions():
            actions.take(edit, f"add {action.text()}", _same(parts, action, f"{button.text()} {action.text()}"))


def _clip_actions(parts: Parts, actions: Actions) -> None:
    """The clip or the camera that is open."""
    clip, timeline, track = parts.tr("Clip and camera"), parts.timeline, parts.timeline.track
    for name, text, call, key in (
        ("play", parts.tr("Play or hold"), lambda: (parts.camera if parts.camera.is_open else timeline).toggle(), "P"),
        ("frame_on", parts.tr("One frame on"), lambda: timeline.step(1), "."),
        ("frame_back", parts.tr("One frame back"), lambda: timeline.step(-1), ","),
        ("loop_from", parts.tr("Loop from this frame on"), lambda: timeline.set_loop(first=track.current), "["),
        ("loop_to", parts.tr("Loop up to this frame"), lambda: timeline.set_loop(last=track.current), "]"),
        ("camera", parts.tr("Simulated camera"), lambda: parts.camera.open_camera(SIMULATED), None),
        ("camera_address", parts.tr("Network camera…"), parts.camera.ask_address, None),
        ("capture", parts.tr("Capture this frame"), parts.camera.capture_now, "Ctrl+Return"),
        ("close_camera", parts.tr("Close the camera"), parts.camera.close_camera, None),
        ("batch", parts.tr("Batch over the list"), parts.drawer.show_batch, "Ctrl+Shift+B"),
        ("trend", parts.tr("Trend over the frames or images"), parts.drawer.show_trend, "Ctrl+Shift+G"),
    ):
        actions.add(clip, name, text, call, key)


def _view_actions(parts: Parts, actions: Actions) -> None:
    """Panes and maps."""
    add = actions.add
    switch = actions.add_switch
    look = parts.tr("View")
    add(look, "fit", parts.tr("Fit the image"), lambda: parts.active_frame.pane.fit(), "F")
    add(look, "one_to_one", parts.tr("One pixel to one pixel"), parts.panes.one_to_one, "1")
    add(look, "zoom_chosen", parts.tr("Zoom to the selection"), parts.panes.zoom_to_chosen, "Z")
    for count, text, shortcut in (
        (1, parts.tr("One pane"), "Ctrl+1"), (2, parts.tr("Two panes"), "Ctrl+2"), (4, parts.tr("Four panes"), "Ctrl+4")
    ):  # fmt: skip
        add(look, f"panes_{count}", text, partial(parts.stages.set_panes, count), shortcut)
    for name, text, key in (
        ("column", parts.tr("Recipe and settings"), "F6"), ("strip", parts.tr("Stages"), "F7"),
        ("drawer", parts.tr("Tables and values"), "F8"),
    ):  # fmt: skip
        tip = parts.tr("Show or hide; the pictures take the room")
        switch(look, f"show_{name}", text, partial(parts.appearance.show_part, name), True, key, tip)
    around = (parts.recipe_cards, parts.settings, parts.panes, parts.strip, parts.drawer, parts.bar)
    add(look, "next_part", parts.tr("Keyboard to the next part of the window"), partial(focus_part, around, 1), "Ctrl+Tab")
    text = parts.tr("Keyboard to the part before")
    add(look, "part_before", text, partial(focus_part, around, -1), "Ctrl+Shift+Tab")
    for what, text in (
        ("zoom", parts.tr("Panes share the zoom")),
        ("place", parts.tr("Panes share the place")),
        ("cursor", parts.tr("Panes share the cursor")),
    ):
        switch(look, f"link_{what}", text, partial(parts.panes.set_linked, what), True)
    tip = parts.tr("Hatched where the result depends on values beyond the border")
    switch(look, "shade", parts.tr("Hatch the margin that depends on the border"), parts.panes.set_shaded, False, "B", tip)
    add(look, "range", parts.tr("Display range of the active pane…"), lambda: parts.active_frame.open_range(), "R")
    add(look, "map_menu", parts.tr("Map of the active pane…"), lambda: parts.active_frame.title.showMenu(), "M")


def _finding_actions(parts: Parts, actions: Actions) -> None:
    """Asking and tables."""
    add = actions.add
    switch = actions.add_switch
    choose = parts.tr("Findings")
    tip = parts.tr("Then click where something was expected; or Shift+click")
    switch(choose, "ask", parts.tr("Ask why"), parts.asking.set_asking, False, "W", tip)
    tip = parts.tr("See what is gained and lost against it while the recipe changes")
    add(choose, "keep", parts.tr("Keep this result"), parts.drawer.keep_result, "Ctrl+R", tip)
    tip = parts.tr("Selected rows, or all, as tab-separated text")
    add(choose, "copy", parts.tr("Copy the table"), parts.drawer.copy_table, "Ctrl+Shift+C", tip)
    tip = parts.tr("For example: length > 50 and closed = yes")
    add(choose, "filter", parts.tr("Show only some rows"), parts.drawer.go_to_filter, "Ctrl+F", tip)
    add(choose, "columns", parts.tr("Columns of the table, colours of the marks…"), parts.drawer.open_column_menu, "Ctrl+Shift+L")


def _measure_actions(parts: Parts, applier: Applier, actions: Actions) -> None:
    """Measuring and sizes."""
    add = actions.add
    measure = parts.tr("Measure")
    for kind, text, shortcut in (
        ("line", parts.tr("Measure a line, with its profile"), "L"),
        ("box", parts.tr("Measure a box"), "Shift+B"),
        ("circle", parts.tr("Measure a circle through three points"), "Shift+C"),
        ("angle", parts.tr("Measure the angle between two lines"), "Shift+A"),
    ):
        add(measure, f"measure_{kind}", text, partial(parts.drawer.start_measuring, kind), shortcut)
    tip = parts.tr("Draw a line across an object, its diameter: sizes around half of it are searched")
    add(measure, "ruler", parts.tr("Size by ruler"), applier.start_ruler, "Shift+L", tip)
    tip = parts.tr("Search sizes around that of the selected finding")
    add(measure, "similar", parts.tr("Look for sizes like the selected one"), applier.like_chosen, "Shift+K", tip)
    tip = parts.tr("Find a target or draw a line of known length: findings then carry millimetres, too")
    add(measure, "calibrate", parts.tr("Calibrate"), parts.drawer.show_calibration, "Ctrl+Shift+K", tip)
    add(measure, "values", parts.tr("Pixel values under the cursor"), parts.drawer.show_values, "N")


def _same(parts: Parts, action: QAction, text: str) -> QAction:
    """An action of its own that does what a menu's action does."""
    own = QAction(text, parts)
    own.triggered.connect(action.trigger)
    return own
