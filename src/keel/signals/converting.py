"""Between the industry's text form and Keel's dictionaries, where one fits the other; what does not is told."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable

from keel.media.every import form_named
from keel.signals.database import EXTENDED_BIT, AttributeRule, Database, DbMessage, DbSignal, Multiplexing
from keel.signals.dictionary import Dictionary, Message
from keel.signals.signal import ERROR, NOT_AVAILABLE, Number, Ranges, Signal

BASE, EXTENDED = form_named("base").number, form_named("extended").number

CYCLE_TIME, FRAME_FORMAT, PROTOCOL = "GenMsgCycleTime", "VFrameFormat", "ProtocolType"
"""Attributes by which the form says how often a message is sent, and that its parameter group counts."""
_BY_GROUP = "J1939PG"
_LOOSE = 0xC000_0000
"""The number of the message in which the form keeps signals that belong to none."""
_NOBODY = re.compile(r".*__XXX$")
_ABSENT_WORDS = re.compile(r"(signal )?(not[ _]?avail\w*|n/?a|sna|unavailable|not[ _]present)", re.I)
_WRONG_WORDS = re.compile(r"(error\w*|invalid|fault|failure|error[ _]indicator)", re.I)
UNKNOWN_NODE = "Unknown"


def from_database(database: Database, name: str = "") -> tuple[Dictionary, list[str]]:
    """A dictionary of what a database says, and sentences on what it cannot hold."""
    lost: Counter[str] = Counter()
    messages = []
    for message in database.messages:
        if message.number & ~1 == _LOOSE:
            lost["signals that belong to no message"] += len(message.signals)
            continue
        messages.append(_message(database, message))
    for attribute in sorted({a for m in database.messages for a in m.attributes} - {CYCLE_TIME, FRAME_FORMAT}):
        lost[f"values of attribute {attribute}"] += sum(attribute in m.attributes for m in database.messages)
    for attribute in sorted({a for m in database.messages for s in m.signals for a in s.attributes}):
        lost[f"values of attribute {attribute}"] += sum(
            attribute in s.attributes for m in database.messages for s in m.signals
        )
    if database.others:
        lost["statements that are not understood"] += len(database.others)
    return Dictionary(tuple(messages), name, database.comment), _sentences(lost)


def _sentences(lost: Counter[str]) -> list[str]:
    return [f"{count} {what}" for what, count in lost.items() if count]


def _message(database: Database, message: DbMessage) -> Message:
    form = EXTENDED if message.is_extended else BASE
    by_group = message.is_extended and _is_by_group(database, message)
    selectors = [s for s in message.signals if s.multiplexing.selects]
    lone = selectors[0].name if len(selectors) == 1 else ""
    signals = tuple(_signal(s, lone, selectors, by_group) for s in message.signals)
    cycle = database.attribute(message, CYCLE_TIME) or "0"
    try:
        cycle_ms = max(float(cycle), 0.0)
    except ValueError:
        cycle_ms = 0.0
    return Message(
        "",
        form,
        message.ident & 0x1FFF_FFFF,
        message.name,
        signals,
        size=message.size,
        sender=_somebody(message.sender),
        cycle_ms=cycle_ms,
        by_group=by_group,
        note=message.comment,
    )


def _somebody(node: str) -> str:
    return "" if _NOBODY.match(node) or node == UNKNOWN_NODE else node


def _is_by_group(database: Database, message: DbMessage) -> bool:
    found = database.attribute(message, FRAME_FORMAT)
    if found is None:
        return (database.attributes.get(PROTOCOL) or "").strip('"').upper() == "J1939"
    word = found.strip('"')
    if word.isdigit():
        rule = next((r for r in database.rules if r.name == FRAME_FORMAT), None)
        words = re.findall(r'"([^"]*)"', rule.type) if rule else []
        word = words[int(word)] if int(word) < len(words) else ""
    return word == _BY_GROUP


def _signal(signal: DbSignal, lone: str, selectors: list[DbSignal], by_group: bool) -> Signal:
    how = signal.multiplexing
    pages: Ranges = how.ranges or (() if how.page is None else ((how.page, how.page),))
    selector = how.selector if how.selector != lone else ""
    if pages and not selector and not lone and selectors:
        # Of several selectors the one that is always there is meant.
        top = [s.name for s in selectors if s.multiplexing.page is None and not s.multiplexing.ranges]
        selector = top[0] if top else selectors[0].name
    if not selectors:
        pages = ()
    least, most = float(signal.least), float(signal.most)
    says_range = least < most
    absent = tuple((raw, raw) for raw, text in signal.texts.items() if _ABSENT_WORDS.fullmatch(text.strip()))
    wrong = tuple((raw, raw) for raw, text in signal.texts.items() if _WRONG_WORDS.fullmatch(text.strip()))
    number: Number = "float" if signal.number == "float" else "double" if signal.number == "double" else "integer"
    scale, offset = float(signal.scale) or 1.0, float(signal.offset)
    field = signal.field
    if by_group and not signal.texts and number == "integer" and not field.signed:
        absent, wrong = _reserved(field.length, (most - offset) / scale if says_range else None)
    spoken = {raw for low, _ in (*absent, *wrong) for raw in (low,)}
    return Signal(
        signal.name,
        field,
        scale,
        offset,
        signal.unit,
        {raw: text for raw, text in signal.texts.items() if raw not in spoken or text not in (NOT_AVAILABLE, ERROR)},
        role="selector" if how.selects else "flag" if field.length == 1 else "value",
        pages=pages,
        note=signal.comment,
        selector=selector,
        number=number,
        least=least if says_range else None,
        most=most if says_range else None,
        absent=absent,
        wrong=wrong,
        receivers=tuple(filter(None, map(_somebody, signal.receivers))),
    )


def _reserved(length: int, most: float | None) -> tuple[Ranges, Ranges]:
    """Raw values for "not available" and "error" of a parameter, if its range leaves room for them.

    Source: SAE J1939-71, 5.1.4, tables 1 and 2.
    """
    if length in (2, 4):
        absent, wrong = (1 << length) - 1, (1 << length) - 2
        found = ((absent, absent),), ((wrong, wrong),)
    elif length in (8, 16, 32):
        rest = length - 8
        found = ((255 << rest, (256 << rest) - 1),), ((254 << rest, (255 << rest) - 1),)
    else:
        return (), ()
    return found if most is None or most < found[1][0][0] else ((), ())


def to_database(dictionary: Dictionary) -> tuple[Database, list[str]]:
    """A database that says what of a dictionary the industry's form can say, and sentences on what it cannot."""
    lost: Counter[str] = Counter()
    database = Database(comment=dictionary.note)
    database.nodes = sorted(
        {_name(n) for m in dictionary.messages for n in (m.sender, *(r for s in m.signals for r in s.receivers)) if n}
    )
    taken: set[int] = set()
    for message in dictionary.messages:
        number = message.ident | (EXTENDED_BIT if message.form == EXTENDED else 0)
        if message.form not in (BASE, EXTENDED):
            lost["messages of lines other than CAN"] += 1
            continue
        if number in taken:
            lost["messages whose identifier another message has on another bus"] += 1
            continue
        taken.add(number)
        lost["buses of messages"] += bool(message.bus)
        lost["text fields"] += len(message.text_fields)
        database.messages.append(_to_message(message, number, lost))
    if any(not m.sender for m in database.messages) or any(
        not s.receivers for m in database.messages for s in m.signals
    ):
        database.nodes.append(UNKNOWN_NODE)
    for made in database.messages:
        made.sender = made.sender or UNKNOWN_NODE
        for signal in made.signals:
            signal.receivers = signal.receivers or (UNKNOWN_NODE,)
    _attributes(database, dictionary.messages)
    return database, _sentences(lost)


def _attributes(database: Database, messages: Iterable[Message]) -> None:
    by_name = {_name(m.name): m for m in messages}
    made = [(m, by_name[m.name]) for m in database.messages if m.name in by_name]
    if any(source.cycle_ms for _, source in made):
        database.rules.append(AttributeRule("BO_", CYCLE_TIME, "INT 0 3600000", "0"))
    if any(source.by_group for _, source in made):
        words = '"StandardCAN","ExtendedCAN","reserved",' + f'"{_BY_GROUP}"'
        database.rules.append(AttributeRule("BO_", FRAME_FORMAT, f"ENUM {words}", '"StandardCAN"'))
    for message, source in made:
        if source.cycle_ms:
            message.attributes[CYCLE_TIME] = f"{source.cycle_ms:.10g}"
        if source.by_group:
            message.attributes[FRAME_FORMAT] = "3"


def _to_message(message: Message, number: int, lost: Counter[str]) -> DbMessage:
    size = message.size or 1 + max((s.field.last_byte for s in message.signals), default=7)
    made = DbMessage(number, _name(message.name), size, _name(message.sender), comment=message.note)
    selecting = {s.name for s in message.signals if s.role == "selector"}
    selecting |= {s.selector for s in message.signals if s.selector}
    for signal in message.signals:
        lost["algorithms of counters and checksums"] += bool(signal.algorithm)
        lost["notes on how signals were found"] += bool(signal.found)
        lost["roles of counters, checksums and constants"] += signal.role in ("counter", "checksum", "constant", "text")
        texts = dict(signal.texts)
        for ranges, word in ((signal.absent, NOT_AVAILABLE), (signal.wrong, ERROR)):
            for low, high in ranges:
                if low == high:
                    texts.setdefault(low, word)
                elif not message.by_group:
                    lost[f"ranges of raw values that mean {word}"] += 1
        made.signals.append(
            DbSignal(
                _name(signal.name),
                signal.field,
                _number(signal.scale),
                _number(signal.offset),
                _number(signal.least or 0.0),
                _number(signal.most or 0.0),
                signal.unit,
                tuple(map(_name, signal.receivers)),
                _multiplexing(message, signal, len(selecting), selecting),
                signal.number,
                texts,
                signal.note,
            )
        )
    return made


def _multiplexing(message: Message, signal: Signal, selectors: int, selecting: set[str]) -> Multiplexing:
    selects = signal.name in selecting
    if not signal.pages:
        return Multiplexing(selects)
    first = signal.pages[0][0]
    above = message.selector_of(signal)
    if selectors == 1 and signal.pages == ((first, first),):
        return Multiplexing(selects, first)
    return Multiplexing(selects, first, _name(above.name) if above else "", signal.pages)


def _number(value: float) -> str:
    return str(int(value)) if float(value).is_integer() and abs(value) < 1e15 else repr(float(value))


def _name(name: str) -> str:
    """A name as the form allows it."""
    plain = re.sub(r"\W", "_", name, flags=re.ASCII)
    return f"_{plain}" if plain[:1].isdigit() else plain
