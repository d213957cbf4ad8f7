"""What Keel's own dictionary files may say: every key, its kind and its meaning, once for reader and JSON schema.

A file is TOML::

    keel = 1

    [[message]]
    name = "BowRampState"
    bus = "A"
    id = "220"

    [[message.signal]]
    name = "angle"
    start = 7
    length = 12
    order = "big"
    scale = 0.1
    unit = "°"
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from keel.media.every import forms

VERSION = 1
FORMS = tuple(form.word for form in forms())
ROLES = ("value", "counter", "checksum", "flag", "constant", "selector", "text")
NUMBERS = ("integer", "float", "double")
ORDERS = ("little", "big")


@dataclass(frozen=True)
class Key:
    """A key of a table: its kind (see `_SCHEMAS`), what it means, the words it may be, whether it must be there."""

    kind: str
    words: str
    choices: tuple[str, ...] = ()
    is_needed: bool = False


FILE = {
    "keel": Key("whole", f"the version of this form, {VERSION}", is_needed=True),
    "name": Key("text", "what the dictionary is called"),
    "note": Key("text", "what else is to be said"),
    "message": Key("tables", "the messages"),
}
MESSAGE = {
    "name": Key("text", "what the message is called", is_needed=True),
    "id": Key("ident", "the identifier as it is written for its form, in hex as 1A0", is_needed=True),
    "bus": Key("text", "the bus it is on; left out: any"),
    "form": Key("text", "what kind of number the identifier is; left out: base up to 7FF, else extended", FORMS),
    "size": Key("whole", "payload bytes"),
    "sender": Key("text", "who sends it"),
    "cycle_ms": Key("number", "how often it is sent, in ms"),
    "by_group": Key("flag", "only the J1939 parameter group counts, whoever sends it"),
    "note": Key("text", "what else is to be said"),
    "signal": Key("tables", "fields of bits"),
    "text": Key("tables", "values in payloads that are text, found by pattern"),
}
SOURCES = ("payload", "header")
SIGNAL = {
    "name": Key("text", "what the signal is called", is_needed=True),
    "start": Key("whole", "bit number: least significant bit of a little-endian field, most of a big", is_needed=True),
    "length": Key("whole", "bits, 1 to 64", is_needed=True),
    "order": Key("text", "byte order; left out: little", ORDERS),
    "signed": Key("flag", "two's complement"),
    "number": Key("text", "an integer, or IEEE 754 of 32 or 64 bits", NUMBERS),
    "scale": Key("number", "physical value = raw × scale + offset"),
    "offset": Key("number", "physical value = raw × scale + offset"),
    "unit": Key("text", "unit of the physical value"),
    "least": Key("number", "least physical value that makes sense"),
    "most": Key("number", "greatest physical value that makes sense"),
    "texts": Key("texts", "what raw values are called"),
    "not_available": Key("ranges", "raw values that mean not available: numbers, or pairs of first and last"),
    "error": Key("ranges", "raw values that mean error: numbers, or pairs of first and last"),
    "role": Key("text", "what kind of field it is; left out: value", ROLES),
    "algorithm": Key("text", "how a counter counts or a checksum is made"),
    "pages": Key("ranges", "the selector's raw values for it"),
    "selector": Key("text", "which signal selects it; left out: the message's one selector"),
    "receivers": Key("list", "who takes it in"),
    "note": Key("text", "what else is to be said"),
    "found": Key("text", "how it was found"),
    "source": Key("text", "where its bits lie; left out: payload", SOURCES),
}
TEXT = {
    "name": Key("text", "what the value is called", is_needed=True),
    "pattern": Key("text", "regular expression; its first group is the value", is_needed=True),
    "is_number": Key("flag", "the value is a number"),
    "scale": Key("number", "physical value = number × scale + offset"),
    "offset": Key("number", "physical value = number × scale + offset"),
    "unit": Key("text", "unit of the physical value"),
    "note": Key("text", "what else is to be said"),
}

_RANGE_SCHEMA: dict[str, Any] = {
    "type": "array",
    "items": {
        "anyOf": [
            {"type": "integer"},
            {"type": "array", "items": {"type": "integer"}, "minItems": 2, "maxItems": 2},
        ]
    },
}
_SCHEMAS: dict[str, dict[str, Any]] = {
    "whole": {"type": "integer", "minimum": 0},
    "number": {"type": "number"},
    "text": {"type": "string"},
    "flag": {"type": "boolean"},
    "ident": {"type": "string"},
    "list": {"type": "array", "items": {"type": "string"}},
    "texts": {
        "type": "object",
        "patternProperties": {"^-?[0-9]+$": {"type": "string"}},
        "additionalProperties": False,
    },
    "ranges": _RANGE_SCHEMA,
}
EXPECTED = {
    "whole": "a whole number, 0 or more",
    "number": "a number",
    "text": "a text",
    "flag": "true or false",
    "ident": 'an identifier in hex as a text, as "1A0"',
    "list": "a list of texts",
    "texts": 'raw values and texts, as { 0 = "off", 1 = "on" }',
    "ranges": "a list of whole numbers or of pairs, as [254, [240, 250]]",
    "tables": "tables",
}


def schema() -> dict[str, Any]:
    """The JSON schema of a dictionary file, for editors."""
    message = _table(MESSAGE)
    message["properties"]["signal"] = {"type": "array", "items": _table(SIGNAL)}
    message["properties"]["text"] = {"type": "array", "items": _table(TEXT)}
    whole = _table(FILE)
    whole["properties"]["message"] = {"type": "array", "items": message}
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Keel dictionary", **whole}


def _table(keys: dict[str, Key]) -> dict[str, Any]:
    properties = {}
    for name, key in keys.items():
        if key.kind == "tables":
            continue
        properties[name] = {**_SCHEMAS[key.kind], "description": key.words}
        if key.choices:
            properties[name]["enum"] = list(key.choices)
    return {
        "type": "object",
        "properties": properties,
        "required": [name for name, key in keys.items() if key.is_needed],
        "additionalProperties": False,
    }
