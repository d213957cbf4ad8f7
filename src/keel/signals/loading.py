"""Dictionary files of any form Keel knows."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from dataclasses import field as default
from pathlib import Path

from keel.errors import InputError
from keel.signals.converting import from_database, to_database
from keel.signals.database import Problem
from keel.signals.dbc import parse_dbc
from keel.signals.dbc_out import write_dbc
from keel.signals.dictionary import Dictionary
from keel.signals.toml_form import parse_own, write_own


@dataclass(frozen=True)
class Loaded:
    """A dictionary as a file holds it.

    Attributes:
        digest: SHA-256 of the file.
        problems: What was passed over, and where.
        lost: What the file says that a dictionary cannot hold.
    """

    dictionary: Dictionary
    path: Path
    digest: str
    problems: list[Problem] = default(default_factory=list)
    lost: list[str] = default(default_factory=list)


def load_dictionary(path: Path) -> Loaded:
    """Read a file: Keel's own form if its name ends in .toml, else a signal database.

    Raises:
        InputError: it cannot be read, or is not of that form.
    """
    try:
        raw = path.read_bytes()
    except OSError as error:
        raise InputError(str(path), f"cannot be read ({error.strerror})", "a signal database or a dictionary") from None
    digest = hashlib.sha256(raw).hexdigest()
    if path.suffix.lower() == ".toml":
        try:
            text = raw.decode("utf-8-sig")
        except UnicodeDecodeError as error:
            raise InputError(str(path), f"byte {error.start} is no UTF-8", "a dictionary in TOML") from None
        dictionary, problems = parse_own(text, str(path))
        return Loaded(dictionary, path, digest, problems)
    database = parse_dbc(raw)
    if not (database.messages or database.nodes or database.tables or database.rules or database.new_symbols):
        raise InputError(str(path), "holds no message and no node", "a signal database")
    dictionary, lost = from_database(database, path.stem)
    return Loaded(dictionary, path, digest, database.problems, lost)


def save_dictionary(dictionary: Dictionary, path: Path) -> list[str]:
    """Write a file in the form its suffix says; returns sentences on what that form cannot hold.

    Raises:
        InputError: the suffix says nothing, or it cannot be written.
    """
    lost: list[str] = []
    if path.suffix.lower() == ".toml":
        content = write_own(dictionary).encode()
    elif path.suffix.lower() == ".dbc":
        database, lost = to_database(dictionary)
        content = write_dbc(database)
    else:
        raise InputError(str(path), f"the suffix “{path.suffix}” says nothing", "a dictionary: .dbc or .toml")
    try:
        path.write_bytes(content)
    except OSError as error:
        raise InputError(str(path), f"cannot be written ({error.strerror})", "a place to write to") from None
    return lost
