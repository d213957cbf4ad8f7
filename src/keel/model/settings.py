"""What is remembered of a person's choices from one run to the next: small files, in the user's own folder.

What cannot be remembered is forgotten, and what is not of the kind that is expected is passed over: nothing that was
asked for fails because of it.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any, TypeVar

from platformdirs import user_config_path

T = TypeVar("T")


def _path(name: str) -> Path:
    return user_config_path("keel") / f"{name}.json"


def _all(name: str) -> dict[str, Any]:
    import msgspec

    try:
        return msgspec.json.decode(_path(name).read_bytes(), type=dict[str, Any])
    except (OSError, ValueError, RecursionError):
        return {}


def setting(name: str, key: str, default: T, kind: Any = None) -> T:
    """What was remembered under a name and a key.

    Args:
        name: The file's name.
        key: What in it.
        default: What it is if nothing was remembered, or nothing of its kind.
        kind: The type it must have; that of the default if it is not given.
    """
    import msgspec

    found = _all(name)
    if key not in found:
        return default
    try:
        made: T = msgspec.convert(found[key], kind or type(default))
    except (ValueError, TypeError, RecursionError):
        return default
    return made


def remember_setting(name: str, key: str, value: Any) -> None:
    """Remember one thing under a name, beside what is there."""
    import msgspec

    path = _path(name)
    try:
        text = msgspec.json.format(msgspec.json.encode({**_all(name), key: value}), indent=1)
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(text + b"\n")
    except (OSError, ValueError, TypeError):
        return
