"""What the app remembers of a person's choices, from one run to the next."""

from __future__ import annotations

import json
from pathlib import Path

from platformdirs import user_config_path


def _path() -> Path:
    return user_config_path("keel") / "views.json"


def preference(name: str) -> list[str] | None:
    """A list of words that was kept, or None."""
    try:
        kept = json.loads(_path().read_text(encoding="utf-8"))[name]
        return [str(word) for word in kept]
    except (OSError, ValueError, KeyError, TypeError):
        return None


def prefer(name: str, words: list[str]) -> None:
    """Keep a list of words."""
    path = _path()
    try:
        known = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        known = {}
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(json.dumps({**known, name: words}, indent=1) + "\n", encoding="utf-8")
    except OSError:
        return
