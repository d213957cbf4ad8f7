"""Keel's own dictionary form: reading and writing TOML. What a file may say: `keel.signals.shape`."""

from __future__ import annotations

import re
import tomllib
from dataclasses import MISSING, fields
from typing import Any

from keel.errors import FieldError, InputError
from keel.media.every import form_named, form_of, usual_form
from keel.model.fields import BitField
from keel.signals import shape
from keel.signals.database import Problem
from keel.signals.dictionary import Dictionary, Message, Ranges, Signal, TextField

_NAMES = {"not_available": "absent", "error": "wrong"}
"""Keys that are called otherwise in `Signal`."""


def parse_own(text: str, where: str) -> tuple[Dictionary, list[Problem]]:
    """A dictionary, and what was passed over: a table that is wrong costs itself, not the file.

    Raises:
        InputError: it is no TOML, or of another version.
    """
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(where, f"is no TOML: {error}", "a dictionary") from None
    problems: list[Problem] = []
    if data.get("keel") != shape.VERSION:
        raise InputError(where, f"says keel = {data.get('keel')!r}", f"keel = {shape.VERSION}")
    lines = _Lines(text)
    _check(data, shape.FILE, "the file", 1, problems)
    messages = []
    given = data.get("message", [])
    for place, table in enumerate(given if isinstance(given, list) else []):
        found = _message(table, place, lines, problems)
        if found is not None:
            messages.append(found)
    return Dictionary(tuple(messages), _text(data, "name"), _text(data, "note")), problems


def _text(data: dict[str, Any], name: str) -> str:
    value = data.get(name, "")
    return value if isinstance(value, str) else ""


class _Lines:
    """In which line the tables begin: the reader of TOML does not say."""

    def __init__(self, text: str) -> None:
        self.messages: list[int] = []
        self.parts: list[dict[str, list[int]]] = []
        for number, line in enumerate(text.splitlines(), 1):
            found = re.match(r"\s*\[\[\s*message(?:\s*\.\s*(signal|text))?\s*\]\]", line)
            if found is None:
                continue
            if found[1] is None:
                self.messages.append(number)
                self.parts.append({"signal": [], "text": []})
            elif self.parts:
                self.parts[-1][found[1]].append(number)

    def message(self, place: int) -> int:
        return self.messages[place] if place < len(self.messages) else 1

    def part(self, place: int, kind: str, number: int) -> int:
        known = self.parts[place][kind] if place < len(self.parts) else []
        return known[number] if number < len(known) else self.message(place)


HEX = "[0-9A-Fa-f]{1,12}"


def _check(table: Any, keys: dict[str, shape.Key], what: str, line: int, problems: list[Problem]) -> dict[str, Any]:
    """The keys of a table that are right; the others are told."""
    right: dict[str, Any] = {}
    if not isinstance(table, dict):
        problems.append(Problem(line, 1, f"{what} is {table!r}", "a table"))
        return right
    for name, value in table.items():
        key = keys.get(name)
        if key is None:
            problems.append(Problem(line, 1, f"{what} has the unknown key “{name}”", "one of " + ", ".join(keys)))
        elif not _fits(value, key):
            expected = " or ".join(key.choices) or shape.EXPECTED[key.kind]
            problems.append(Problem(line, 1, f"“{name}” of {what} is {value!r}", expected))
        else:
            right[name] = value
    for name, key in keys.items():
        if key.is_needed and name not in table:
            problems.append(Problem(line, 1, f"{what} has no “{name}”", key.words))
    return right


def _fits(value: Any, key: shape.Key) -> bool:
    kind = key.kind
    if kind == "text":
        return isinstance(value, str) and (not key.choices or value in key.choices)
    if kind == "ident":
        return isinstance(value, str)
    if kind == "flag":
        return isinstance(value, bool)
    if kind == "list":
        return isinstance(value, list) and all(isinstance(v, str) for v in value)
    if kind == "texts":
        return isinstance(value, dict) and all(
            re.fullmatch(r"-?\d{1,20}", k) and isinstance(v, str) for k, v in value.items()
        )
    if kind == "ranges":
        return isinstance(value, list) and all(_whole(v) or _pair(v) for v in value)
    if kind == "tables":
        return isinstance(value, list)
    if kind == "whole":
        return _whole(value) and value >= 0
    return isinstance(value, int | float) and not isinstance(value, bool)


def _whole(value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool)


def _pair(value: Any) -> bool:
    return isinstance(value, list) and len(value) == 2 and all(map(_whole, value)) and value[0] <= value[1]


def _ranges(value: list[Any]) -> Ranges:
    return tuple((v, v) if isinstance(v, int) else (v[0], v[1]) for v in value)


def _message(table: Any, place: int, lines: _Lines, problems: list[Problem]) -> Message | None:
    line = lines.message(place)
    name = table.get("name") if isinstance(table, dict) else None
    right = _check(table, shape.MESSAGE, f"message “{name}”" if name else f"message {place + 1}", line, problems)
    if "name" not in right or "id" not in right:
        return None
    text = right.pop("id")
    named = form_named(right.pop("form")) if "form" in right else None
    read = named.read(text) if named is not None and named.read is not None else None
    if read is None and not re.fullmatch(HEX, text):
        problems.append(Problem(line, 1, f"“id” of message “{name}” is {text!r}", shape.EXPECTED["ident"]))
        return None
    ident = read[0] if read is not None else int(text, 16)
    form = named or usual_form(ident)
    if ident > form.most:
        problems.append(Problem(line, 1, f"“id” of message “{name}” is {ident:X}", f"at most {form.most:X}"))
        return None
    signals, texts = [], []
    for number, part in enumerate(right.pop("signal", [])):
        signal = _signal(part, str(name), lines.part(place, "signal", number), problems)
        if signal is not None:
            signals.append(signal)
    for number, part in enumerate(right.pop("text", [])):
        text = _text_field(part, str(name), lines.part(place, "text", number), problems)
        if text is not None:
            texts.append(text)
    bus = right.pop("bus", "")
    return Message(bus, form.number, ident, signals=tuple(signals), text_fields=tuple(texts), **right)


def _signal(table: Any, message: str, line: int, problems: list[Problem]) -> Signal | None:
    what = f"a signal of “{message}”"
    if isinstance(table, dict) and isinstance(table.get("name"), str):
        what = f"signal “{message}.{table['name']}”"
    before = len(problems)
    right = _check(table, shape.SIGNAL, what, line, problems)
    if any(name not in right for name, key in shape.SIGNAL.items() if key.is_needed) or (
        len(problems) > before and {"order", "signed", "number", "pages"} & set(table) - set(right)
    ):
        return None
    try:
        place = (right.pop("start"), right.pop("length"), right.pop("order", "little"), right.pop("signed", False))
        where = BitField(*place)
    except FieldError as error:
        problems.append(Problem(line, 1, f"{what}: {error}", "a field inside the payload"))
        return None
    if (right.get("number", "integer"), where.length) not in (
        *(("integer", n) for n in range(1, 65)),
        ("float", 32),
        ("double", 64),
    ):
        problems.append(Problem(line, 1, f"{what} is a {right['number']} of {where.length} bits", "32 or 64 bits"))
        return None
    for name in ("not_available", "error", "pages"):
        if name in right:
            right[_NAMES.get(name, name)] = _ranges(right.pop(name))
    right["texts"] = {int(raw): text for raw, text in right.get("texts", {}).items()}
    right["receivers"] = tuple(right.get("receivers", ()))
    return Signal(field=where, **right)


def _text_field(table: Any, message: str, line: int, problems: list[Problem]) -> TextField | None:
    right = _check(table, shape.TEXT, f"a text of “{message}”", line, problems)
    if "name" not in right or "pattern" not in right:
        return None
    try:
        re.compile(right["pattern"])
    except re.error as error:
        problems.append(
            Problem(line, 1, f"the pattern of “{message}.{right['name']}”: {error}", "a regular expression")
        )
        return None
    return TextField(**right)


def write_own(dictionary: Dictionary) -> str:
    """The dictionary as TOML; `parse_own` gives it back."""
    import tomli_w

    return tomli_w.dumps(_table(dictionary))


def _table(dictionary: Dictionary) -> dict[str, Any]:
    said = {"name": dictionary.name, "note": dictionary.note}
    head = {"keel": shape.VERSION, **{name: text for name, text in said.items() if text}}
    return {**head, "message": [_message_table(message) for message in dictionary.messages]}


def _message_table(message: Message) -> dict[str, Any]:
    table: dict[str, Any] = {"name": message.name}
    if message.bus:
        table["bus"] = message.bus
    # Of what is not written in hex, only what is read so.
    form = form_of(message.form)
    table["id"] = f"{message.ident:0{form.digits}X}" if form.read is None else form.write(message.ident)
    if message.form != usual_form(message.ident).number:
        table["form"] = form_of(message.form).word
    table |= _said(message, ("size", "sender", "cycle_ms", "by_group", "note"))
    if message.signals:
        table["signal"] = [_signal_table(signal) for signal in message.signals]
    if message.text_fields:
        names = ("is_number", "scale", "offset", "unit", "note")
        table["text"] = [{"name": t.name, "pattern": t.pattern, **_said(t, names)} for t in message.text_fields]
    return table


def _signal_table(signal: Signal) -> dict[str, Any]:
    field = signal.field
    place = {"start": field.start, "length": field.length, **_said(field, ("order", "signed"))}
    first = ("number", "scale", "offset", "unit", "least", "most", "texts", "absent", "wrong")
    rest = ("role", "algorithm", "pages", "selector", "receivers", "note", "found")
    return {"name": signal.name, **place, **_said(signal, (*first, *rest))}


def _said(thing: Any, names: tuple[str, ...]) -> dict[str, Any]:
    """The attributes that are not as by default, as they are called in the file."""
    defaults = {f.name: f.default_factory() if f.default_factory is not MISSING else f.default for f in fields(thing)}
    called = {inner: outer for outer, inner in _NAMES.items()}
    values = ((name, getattr(thing, name)) for name in names)
    return {called.get(name, name): _written(name, value) for name, value in values if value != defaults[name]}


def _written(name: str, value: Any) -> Any:
    if name in ("absent", "wrong", "pages"):
        return [low if low == high else [low, high] for low, high in value]
    if isinstance(value, dict):
        return {str(raw): text for raw, text in value.items()}
    if isinstance(value, tuple):
        return list(value)
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return int(value)
    return value
