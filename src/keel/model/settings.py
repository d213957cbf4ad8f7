"""What is remembered of a person's choices from one run to the next: small files of words, in the user's own folder.

What cannot be remembered is forgotten, and what somebody else wrote into such a file is passed over: nothing that was
asked for fails because of it.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from platformdirs import user_config_path


def _path(name: str) -> Path:
    return user_config_path("keel") / f"{name}.json"


def settings(name: str) -> dict[str, Any]:
    """All that was remembered under a name; empty if there is nothing that can be read."""
    try:
        known = json.loads(_path(name).read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        return {}
    return known if isinstance(known, dict) else {}


def remember_setting(name: str, key: str, value: Any) -> None:
    """Remember one thing under a name, beside what is there."""
    path = _path(name)
    text = json.dumps({**settings(name), key: value}, indent=1, ensure_ascii=False) + "\n"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    except (OSError, ValueError):
        return


def words_of(value: Any) -> list[str]:
    """A list of words that was remembered; empty if it is something else."""
    return [str(word) for word in value] if isinstance(value, list) else []
