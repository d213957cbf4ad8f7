"""Dictionaries as plain data, for a manifest and for the copies that a recording keeps."""

from __future__ import annotations

from dataclasses import fields, replace
from typing import Any

from keel.media.every import form_named, form_of
from keel.model.extensible import from_plain, to_plain
from keel.signals.dictionary import Dictionary, Message, Signal, TextField

_FIELD = ("start", "length", "order", "signed")
_NAMES = {kind: [one.name for one in fields(kind)] for kind in (Message, Signal)}
"""What is as by default is left out, whatever it is."""


def messages_to_json(dictionary: Dictionary) -> list[dict[str, Any]]:
    """Messages as plain data; what is as by default is left out."""
    return [_message(m) for m in dictionary.messages]


def messages_from_json(data: list[dict[str, Any]], name: str = "") -> Dictionary:
    """The inverse of `messages_to_json`.

    Raises:
        AttributeError, KeyError, TypeError, ValueError: something is missing, or not what it should be.
    """
    return Dictionary(tuple(_message_from(m) for m in data), name)


def _message(message: Message) -> dict[str, Any]:
    plain = to_plain(message, _NAMES[Message])
    plain["form"] = form_of(message.form).word
    plain["signals"] = [_signal(s) for s in message.signals]
    if message.text_fields:
        plain["text_fields"] = [to_plain(t) for t in message.text_fields]
    return plain


def _message_from(data: dict[str, Any]) -> Message:
    inside = ("signals", "text_fields")
    plain = {name: value for name, value in data.items() if name not in inside}
    message = from_plain({**plain, "form": form_named(data["form"]).number}, Message)
    texts = tuple(from_plain(text, TextField) for text in data.get("text_fields", []))
    return replace(message, signals=tuple(_signal_from(s) for s in data["signals"]), text_fields=texts)


def _signal(signal: Signal) -> dict[str, Any]:
    plain = to_plain(signal, _NAMES[Signal])
    del plain["field"]
    if signal.texts:
        plain["texts"] = {str(raw): text for raw, text in signal.texts.items()}
    return {**{name: getattr(signal.field, name) for name in _FIELD}, **plain}


def _signal_from(data: dict[str, Any]) -> Signal:
    plain = {name: value for name, value in data.items() if name not in _FIELD}
    page = plain.pop("page", None)
    if page is not None:
        # As recordings of the first version say it.
        plain["pages"] = [[page, page]]
    return from_plain({**plain, "field": {name: data[name] for name in _FIELD}}, Signal)
