"""The entry, icon and file type for the user's desktop, and their removal."""

from __future__ import annotations

import configparser
import os
import shutil
import subprocess
import unittest
from pathlib import Path
from unittest import mock
from xml.dom import minidom

from tests.command_line.test_main import CommandCase


class Integration(CommandCase):
    def test_install_and_uninstall_leave_nothing_behind(self) -> None:
        home = self.path("share")
        with mock.patch.dict(os.environ, {"XDG_DATA_HOME": str(home)}):
            status, shown, said = self.call("install", "--command", "/opt/finch app")
            self.assertEqual(status, 0, said)
            paths = [Path(line) for line in shown.splitlines()]
            self.assertEqual(len(paths), 4)
            self.assertTrue(all(path.is_file() and home in path.parents for path in paths))
            entry = configparser.RawConfigParser()
            entry.read(home / "applications" / "lucid-finch.desktop")
            self.assertEqual(entry["Desktop Entry"]["exec"], "/opt/finch app %F")
            kind = minidom.parse(str(home / "mime" / "packages" / "lucid-finch.xml")).getElementsByTagName("mime-type")[0]
            self.assertIn(kind.getAttribute("type"), entry["Desktop Entry"]["mimetype"])
            minidom.parse(str(home / "icons" / "hicolor" / "scalable" / "apps" / "lucid-finch.svg"))
            if shutil.which("desktop-file-validate"):
                command = ["desktop-file-validate", str(home / "applications" / "lucid-finch.desktop")]
                self.assertEqual(subprocess.run(command, capture_output=True, check=False).returncode, 0)
            status, shown, _ = self.call("uninstall")
            self.assertEqual((status, len(shown.splitlines())), (0, 4))
            self.assertFalse(any(path.exists() for path in paths))
            self.assertEqual(self.call("uninstall")[1], "")


if __name__ == "__main__":
    unittest.main()
