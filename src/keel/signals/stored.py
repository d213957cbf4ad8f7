"""Dictionaries as plain data, for a manifest and for the copies that a recording keeps."""

from __future__ import annotations

from dataclasses import MISSING, asdict, fields
from typing import Any

from keel.model.fields import BitField
from keel.model.identity import Form
from keel.signals.dictionary import Dictionary, Message, Signal, TextField

_FIELD = ("start", "length", "order", "signed")


def messages_to_json(dictionary: Dictionary) -> list[dict[str, Any]]:
    """Messages as plain data; what is as by default is left out."""
    return [_message(m) for m in dictionary.messages]


def messages_from_json(data: list[dict[str, Any]], name: str = "") -> Dictionary:
    """The inverse of `messages_to_json`."""
    return Dictionary(tuple(_message_from(m) for m in data), name)


def _message(message: Message) -> dict[str, Any]:
    plain = _without_defaults(message)
    plain["form"] = Form(message.form).name.lower()
    plain["signals"] = [_signal(s) for s in message.signals]
    if message.text_fields:
        plain["text_fields"] = [asdict(t) for t in message.text_fields]
    return plain


def _message_from(data: dict[str, Any]) -> Message:
    data = dict(data)
    data["form"] = Form[data["form"].upper()]
    data["signals"] = tuple(_signal_from(s) for s in data["signals"])
    data["text_fields"] = tuple(TextField(**t) for t in data.get("text_fields", ()))
    return Message(**data)


def _signal(signal: Signal) -> dict[str, Any]:
    plain = _without_defaults(signal)
    del plain["field"]
    if signal.texts:
        plain["texts"] = {str(raw): text for raw, text in signal.texts.items()}
    return {**{name: getattr(signal.field, name) for name in _FIELD}, **plain}


def _signal_from(data: dict[str, Any]) -> Signal:
    data = dict(data)
    where = BitField(*(data.pop(name) for name in _FIELD))
    page = data.pop("page", None)
    if page is not None:
        # As recordings of the first version say it.
        data["pages"] = [[page, page]]
    for name in ("pages", "absent", "wrong"):
        data[name] = tuple((int(low), int(high)) for low, high in data.get(name, ()))
    data["receivers"] = tuple(data.get("receivers", ()))
    data["texts"] = {int(raw): text for raw, text in data.get("texts", {}).items()}
    return Signal(field=where, **data)


def _without_defaults(thing: Signal | Message) -> dict[str, Any]:
    plain = {}
    for one in fields(thing):
        value = getattr(thing, one.name)
        default = one.default_factory() if one.default_factory is not MISSING else one.default
        if value != default:
            plain[one.name] = value
    return plain
