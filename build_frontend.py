"""Build hook: the wheel holds the built front end, made here where the folder is not there yet."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface


class FrontEndHook(BuildHookInterface):
    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        root = Path(self.root)
        if version == "editable" or (root / "src/ecumen_web/app/index.html").is_file():
            return
        npm = shutil.which("npm")
        if npm is None:
            raise RuntimeError(
                "the front end is not built, and npm is missing: install Node.js 18+"
            )
        for command in (["install", "--no-save", "--ignore-scripts"], ["run", "build"]):
            subprocess.run([npm, *command], cwd=root / "frontend", check=True)
