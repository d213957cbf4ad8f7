"""The house itself: imports run downward, files stay small, the core starts light."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
SOURCES = sorted((ROOT / "src" / "keel").rglob("*.py"))


def test_imports_run_downward_and_the_core_has_no_interface_code() -> None:
    lint = Path(sys.executable).with_name("lint-imports")
    done = subprocess.run([str(lint), "--no-cache"], cwd=ROOT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout
    assert "6 kept, 0 broken" in done.stdout


def test_files_are_small_and_open_with_what_they_are() -> None:
    texts = {str(path.relative_to(ROOT)): path.read_text(encoding="utf-8") for path in SOURCES}
    assert len(texts) > 100
    assert not {path: lines for path, text in texts.items() if (lines := len(text.splitlines())) > 400}
    assert not [path for path, text in texts.items() if not ast.get_docstring(ast.parse(text))]


@pytest.mark.parametrize("module", ["keel.app.main", "keel.cli.live"])
def test_what_is_slow_to_load_is_left_for_later(module: str) -> None:
    slow = ("numba", "pyarrow", "matplotlib", "lark", "numpy")
    code = f"import sys, {module}; print(' '.join(m for m in {slow!r} if m in sys.modules))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == ""


def test_no_key_means_two_things_in_one_view() -> None:
    from keel.app.main import KeelApp
    from keel.app.views.every import DOORS

    everywhere = KeelApp(None).everywhere
    for door in DOORS:
        actions = (*door.load().actions, *everywhere)
        keys = [key for action in actions for key in action.keys] + [other.key for other in DOORS]
        assert len(keys) == len(set(keys)), door.name
