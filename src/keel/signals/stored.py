"""Dictionaries as plain data, for a manifest and for the copies that a recording keeps."""

from __future__ import annotations

from dataclasses import MISSING, asdict, fields, replace
from typing import Any, TypeVar

from keel.media.every import form_named, form_of
from keel.signals.dictionary import Dictionary, Message, Signal

T = TypeVar("T")
_FIELD = ("start", "length", "order", "signed")


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
    plain = _without_defaults(message)
    plain["form"] = form_of(message.form).word
    plain["signals"] = [_signal(s) for s in message.signals]
    if message.text_fields:
        plain["text_fields"] = [asdict(t) for t in message.text_fields]
    return plain


def _message_from(data: dict[str, Any]) -> Message:
    plain = {name: value for name, value in data.items() if name != "signals"}
    message = _typed({**plain, "form": form_named(data["form"]).number}, Message)
    return replace(message, signals=tuple(_signal_from(s) for s in data["signals"]))


def _signal(signal: Signal) -> dict[str, Any]:
    plain = _without_defaults(signal)
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
    return _typed({**plain, "field": {name: data[name] for name in _FIELD}}, Signal)


def _typed(data: dict[str, Any], kind: type[T]) -> T:
    """The thing in plain data, each part of it as it is declared."""
    import msgspec

    return msgspec.convert(data, kind, str_keys=True)


def _without_defaults(thing: Signal | Message) -> dict[str, Any]:
    plain = {}
    for one in fields(thing):
        value = getattr(thing, one.name)
        default = one.default_factory() if one.default_factory is not MISSING else one.default
        if value != default:
            plain[one.name] = value
    return plain
