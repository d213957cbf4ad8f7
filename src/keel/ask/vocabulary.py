"""The terms of the ask, each one entry: its syntax, its node, its help, what it is completed with."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

from keel.ask import context, earlier, nodes, terms
from keel.ask.crossings import crosses
from keel.ask.headers import FIELDS, HeaderIs, check_value, words_of
from keel.ask.identifiers import IDENTIFIER, ITEM, id_range
from keel.ask.nodes import Node, Scene
from keel.ask.pieces import duration, moment, names, pattern, place, signal, unknown, wanted
from keel.ask.signals import SignalIs, SignalMoves
from keel.ask.term import Term
from keel.ask.times import time_text
from keel.errors import AskError
from keel.media.every import key_words
from keel.model.faults import FAULT_BY_WORD
from keel.model.globs import Glob, unquoted
from keel.model.identity import NO_IDENT, unpack_key

HEX = 'bytes in hex, as "5E ?? 04"'
NUMBER, NAME = "a number", "a name, in quotes if it has spaces"
COMPARE, DURATION = "one of > >= < <= = !=", "a time with its unit, as 120ms"


def _ids_there(_: Scene | None, keys: Iterable[int]) -> list[str]:
    return sorted({key_words(key) for key in keys if unpack_key(key)[1] != NO_IDENT})


def _signals_there(scene: Scene | None, _: Iterable[int]) -> list[str]:
    return sorted(scene.book.signal_names) if scene is not None else []


def _faults(words: list[Any], _: Scene | None) -> Node:
    mask = 0
    for word in words:
        if word.lower() not in FAULT_BY_WORD:
            raise unknown(word, FAULT_BY_WORD, "fault class")
        mask |= FAULT_BY_WORD[word.lower()]
    return terms.Faults(mask)


def _text(items: list[Any], _: Scene | None) -> Node:
    text = unquoted(items[0])
    if not text:
        raise AskError(items[0].start_pos or 0, "the text is empty")
    return terms.HasText(text)


def _at(items: list[Any], _: Scene | None) -> Node:
    start, end = (None if item is None else moment(item) for item in items)
    if start is not None and end is not None and end < start:
        turned = f"at:{time_text(end)}..{time_text(start)}"
        raise AskError(items[0].start_pos or 0, "the time ends before it begins", (turned,))
    return terms.At(start, end)


def _signal_is(items: list[Any], scene: Scene | None) -> Node:
    value = wanted(items[1:])
    return SignalIs(signal(items[0], scene, value), value)


def _moves(items: list[Any], scene: Scene | None) -> Node:
    """Of a signal, or of a channel whose waveform is kept."""
    word = items[0].lower().rstrip(":")
    if len(items) == 2:
        return SignalMoves(signal(items[1], scene), word)
    name = unquoted(items[1]) if items[1].type == "STRING" else str(items[1])
    return crosses(word, name, str(items[2]), str(items[3]), items[1].start_pos or 0, scene)


def _moving_there(scene: Scene | None, keys: Iterable[int]) -> list[str]:
    channels = [] if scene is None else [str(Glob.literal(name)) for name in scene.channels]
    return [*channels, *_signals_there(scene, keys)]


def _becomes(items: list[Any], scene: Scene | None) -> Node:
    value = wanted(items[1:])
    return SignalMoves(signal(items[0], scene, value), "becomes", value)


def _header_is(items: list[Any], _: Scene | None) -> Node:
    word, compare = items[0].lower().rstrip(":").strip(), ":"
    values = items[1:]
    if items[1].type == "COMPARE":
        compare, values = str(items[1]), items[2:]
    for value in values:
        check_value(word, compare, value)
    return HeaderIs(word, compare, tuple(unquoted(value) if value.type == "STRING" else str(value) for value in values))


_HEADER_WORDS = "|".join(sorted((re.escape(word) for word in FIELDS), key=len, reverse=True))

TERMS: list[Term] = [
    Term(
        ("id:",),
        "_ID ID_ITEM (_COMMA ID_ITEM)*",
        f"_ID: /id:/i\nID_ITEM: /{ITEM}/i",
        lambda items, _: terms.Ids(tuple(id_range(item) for item in items)),
        (
            ("id:220  id:220..22F  id:18FE??17", "identifiers: one, a range, with any digit; id:220,221 for several"),
            ("id:C6:12:34:56:78:9A  id:C61234??????", "device addresses, with or without colons"),
            ('id:1.7.2  id:"1.7.2 out"', "endpoints of devices, or one way of one"),
            ("id:none", "frames without an identifier, as error frames"),
        ),
        {"ID_ITEM": IDENTIFIER},
        _ids_there,
    ),
    Term(
        ("bus:",),
        "_BUS (WORD | STRING) (_COMMA (WORD | STRING))*",
        "_BUS: /bus:/i",
        lambda items, scene: terms.Buses(names(items, scene.buses if scene else None, "bus")),
        (("bus:A  bus:?", "buses; * and ? for what may vary, quotes where a name is not one word"),),
        {"WORD": NAME},
        lambda scene, _: list(scene.buses) if scene is not None else [],
    ),
    Term(
        ("name:",),
        "_NAME (WORD | STRING) (_COMMA (WORD | STRING))*",
        "_NAME: /name:/i",
        lambda items, scene: terms.Names(names(items, scene.book.message_names if scene else None, "message")),
        (("name:Pack*", "message names"),),
        {"WORD": NAME},
        lambda scene, _: sorted(scene.book.message_names) if scene is not None else [],
    ),
    Term(
        ("dir:",),
        "_DIR DIRECTION",
        "_DIR: /dir:/i\nDIRECTION: /rx|tx/i",
        lambda items, _: terms.Direction(items[0].lower() == "tx"),
        (("dir:tx", "direction: rx or tx"),),
        {"DIRECTION": "rx or tx"},
        lambda *_: ["rx", "tx"],
    ),
    Term(
        ("len",),
        "_LEN COMPARE NUMBER",
        r"_LEN: /len(?=[\s<>=!]|$)/i",
        lambda items, _: terms.Length(str(items[0]), place(items[1])),
        (("len>8", "the payload's length in bytes"),),
        {"COMPARE": COMPARE, "NUMBER": NUMBER},
    ),
    Term(
        ("data",),
        "DATA",
        r"DATA.2: /data(?![:.\w])/i",
        lambda *_: terms.HasData(),
        (("data", "frames that carry data"),),
    ),
    Term(
        tuple(f"{word}:" for word in words_of()),
        "(HEADER COMPARE (STRING | VALUE) | HEADER_OF (STRING | VALUE) (_COMMA (STRING | VALUE))*)",
        f"""HEADER.5: /({_HEADER_WORDS})(?=\\s*[<>=!])/i
        HEADER_OF.5: /({_HEADER_WORDS}):/i""",
        _header_is,
        (
            ("rssi<-70  channel:37  type:ADV_IND", "what a frame's header says; words or numbers, several with commas"),
            ("status:stall  usb.bus:1", "where a word means something else, its kind of line stands before it"),
        ),
        {"HEADER": "a field of the header, as rssi", "VALUE": "a value"},
        words_for=lambda media: [f"{word}:" for word in words_of(media)],
    ),
    Term(
        ("bytes:",),
        "_BYTES (STRING | HEX)",
        "_BYTES: /bytes:/i",
        lambda items, _: terms.HasBytes(pattern(items[0])),
        (('bytes:"5E ?? 04"', "bytes anywhere in the payload, ?? for any"),),
        {"HEX": HEX, "STRING": 'text in quotes ("")'},
    ),
    Term(
        ("bytes@",),
        "_BYTES_AT NUMBER _COLON (STRING | HEX)",
        "_BYTES_AT: /bytes@/i",
        lambda items, _: terms.HasBytes(pattern(items[1]), place(items[0])),
        (("bytes@2:FF", "bytes in one place of it, counted from byte 0"),),
        {"HEX": HEX, "NUMBER": NUMBER, "_COLON": ":"},
    ),
    Term(
        ("text:",),
        "_TEXT (STRING | WORD)",
        "_TEXT: /text:/i",
        _text,
        (('text:"ready"', 'text in the payload, in any case (exactly so: bytes:"72 65 61 64 79")'),),
        {"STRING": 'text in quotes ("")', "WORD": NAME},
    ),
    Term(
        ("fault",),
        "FAULT",
        r"FAULT.2: /fault(?![:\w])/i",
        lambda *_: terms.Faults(terms.ANY_FAULT),
        (("fault", "faulty frames"),),
    ),
    Term(
        ("fault:",),
        "_FAULT_OF WORD (_COMMA WORD)*",
        "_FAULT_OF: /fault:/i",
        _faults,
        (("fault:crc,ack", "faulty frames of some classes"),),
        {"WORD": "a class of fault, as crc"},
        lambda *_: list(FAULT_BY_WORD),
    ),
    Term(
        ("bit@",),
        "_BIT_AT NUMBER _COLON BIT",
        r"""_BIT_AT: /bit@/i
        BIT: /[01](?!\d)/""",
        lambda items, _: terms.Bit(place(items[0]), int(items[1])),
        (("bit@17:1", "a bit stands so; bit 0 is the least significant of byte 0"),),
        {"NUMBER": NUMBER, "BIT": "0 or 1", "_COLON": ":"},
    ),
    Term(
        ("moved",),
        "MOVED",
        r"MOVED.2: /moved(?![@\w])/i",
        lambda *_: earlier.Moved(),
        (("moved", "the payload changed since the identifier's frame before"),),
    ),
    Term(
        ("moved@",),
        "_MOVED_AT NUMBER (_COMMA NUMBER)*",
        "_MOVED_AT: /moved@/i",
        lambda items, _: nodes.any_of(*(earlier.Moved(place(item)) for item in items)),
        (("moved@3", "byte 3 of it changed"),),
        {"NUMBER": NUMBER},
    ),
    Term(
        ("near(",),
        "_NEAR any _WITHIN DURATION _CLOSE",
        r"_NEAR: /near\s*\(/i",
        lambda items, _: context.Near(items[0], duration(items[1])),
        (("near(fault within 50ms)", "what happened about it"),),
        {"DURATION": DURATION},
    ),
    Term(
        ("gap",),
        "_GAP COMPARE DURATION",
        r"_GAP: /gap(?=[\s<>=!]|$)/i",
        lambda items, _: earlier.Gap(str(items[0]), duration(items[1])),
        (("gap>120ms", "time since the same identifier's frame before"),),
        {"COMPARE": COMPARE, "DURATION": DURATION},
    ),
    Term(
        ("step",),
        "_STEP COMPARE DURATION",
        r"_STEP: /step(?=[\s<>=!]|$)/i",
        lambda items, _: earlier.Step(str(items[0]), duration(items[1])),
        (("step<50us", "time since the frame before, whoever sent it"),),
        {"COMPARE": COMPARE, "DURATION": DURATION},
    ),
    Term(
        ("at:",),
        "_AT [MOMENT] _RANGE [MOMENT]",
        r"""_AT: /at:/i
        MOMENT: /-?\d+(\.(?!\.)\d+)?(ns|us|µs|ms|s|min|h)/i""",
        _at,
        (("at:12.5s..13.1s", "time since the recording's zero; -3ms lies before it; either may be left out"),),
        {"MOMENT": "a time with its unit, as 12.5s", "_RANGE": ".."},
    ),
    Term(
        (),
        "SIGNAL COMPARE (STRING | VALUE)",
        "",
        _signal_is,
        (
            ("BowRampState.supply<24.5", "a signal's value"),
            ("DoorSwitches.fore=open", 'a signal\'s text, or ="not available", =error'),
        ),
        {"SIGNAL": "a signal, as BowRampState.supply", "COMPARE": COMPARE, "VALUE": "a value"},
    ),
    Term(
        ("rises:", "falls:", "changes:"),
        "CHANGE (SIGNAL | SIGNAL ACROSS VOLTS | (VALUE | STRING) ACROSS VOLTS)",
        r"""CHANGE: /(rises|falls|changes):/i
        ACROSS: /[<>]=?|=/
        VOLTS: /-?\d+(\.\d+)?(mV|V)?/i""",
        _moves,
        (
            ("rises:BilgeLevels.pump", "a signal rises, falls or changes"),
            ("falls:motor<11V  rises:motor>11V", "the first frame after a channel beside the line crosses a voltage"),
        ),
        {
            "SIGNAL": "a signal, as BilgeLevels.pump",
            "VOLTS": "a voltage, as 11V",
            "ACROSS": "< with falls, > with rises",
        },
        _moving_there,
    ),
    Term(
        ("becomes:",),
        "_BECOMES SIGNAL SAME (STRING | VALUE)",
        "_BECOMES: /becomes:/i",
        _becomes,
        (("becomes:DoorSwitches.fore=open", "a signal takes a value that it had not"),),
        {"SIGNAL": "a signal, as DoorSwitches.fore", "SAME": "= and a value", "VALUE": "a value"},
        _signals_there,
    ),
]
"""The terms there are. A term more is one entry here."""

JOINING = ("then", "within", "not", "or", "and")
"""The words that join terms."""
JOINED_HELP = (
    ("fault then id:220 within 50ms", "the second, if the first was shortly before"),
    ("id:220 not fault or (bus:B len<8)", "side by side means and; or, not, parentheses"),
)
"""What joins terms, for the guide."""


def help_lines() -> list[tuple[str, str]]:
    """An example and its meaning, for every term and for what joins them."""
    return [*(line for term in TERMS for line in term.help), *JOINED_HELP]
