"""Writing the industry's common signal-database text form (DBC)."""

from __future__ import annotations

from collections.abc import Iterator

from keel.signals.database import Database, DbMessage, DbSignal


def write_dbc(database: Database) -> bytes:
    """The file's bytes, in the encoding and with the line ends the database names.

    What its encoding cannot say is written as ``?``.
    """
    text = "\n".join(_lines(database)) + "\n"
    return text.replace("\n", database.newline).encode(database.encoding, "replace")


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _lines(database: Database) -> Iterator[str]:
    yield f"VERSION {_quoted(database.version)}"
    yield ""
    yield "NS_ :"
    for word in database.new_symbols:
        yield f"\t{word}"
    yield ""
    yield "BS_:"
    yield ""
    yield " ".join(["BU_:", *database.nodes])
    for name, texts in database.tables.items():
        yield f"VAL_TABLE_ {name}{_texts(texts)} ;"
    yield ""
    for message in database.messages:
        yield f"BO_ {message.number} {message.name}: {message.size} {message.sender}".rstrip()
        for signal in message.signals:
            yield _signal(signal)
        yield ""
    for message in database.messages:
        if message.senders:
            yield f"BO_TX_BU_ {message.number} : {','.join(message.senders)};"
    yield from _comments(database)
    yield from _attributes(database)
    for message in database.messages:
        for signal in message.signals:
            if signal.texts:
                yield f"VAL_ {message.number} {signal.name}{_texts(signal.texts)} ;"
    for message in database.messages:
        for signal in message.signals:
            if signal.number != "integer":
                yield f"SIG_VALTYPE_ {message.number} {signal.name} : {1 if signal.number == 'float' else 2};"
    for message in database.messages:
        for signal in message.signals:
            if signal.multiplexing.selector:
                ranges = ", ".join(f"{a}-{b}" for a, b in signal.multiplexing.ranges)
                yield f"SG_MUL_VAL_ {message.number} {signal.name} {signal.multiplexing.selector} {ranges};"
    yield from database.others


def _signal(signal: DbSignal) -> str:
    how = signal.multiplexing
    page = "" if how.page is None else f"m{how.page}"
    multiplexing = f" {page}{'M' if how.selects else ''}" if page or how.selects else ""
    field = signal.field
    order, sign = "1" if field.order == "little" else "0", "-" if field.signed else "+"
    receivers = f" {','.join(signal.receivers)}" if signal.receivers else ""
    return (
        f" SG_ {signal.name}{multiplexing} : {field.start}|{field.length}@{order}{sign} "
        f"({signal.scale},{signal.offset}) [{signal.least}|{signal.most}] {_quoted(signal.unit)}{receivers}"
    )


def _texts(texts: dict[int, str]) -> str:
    return "".join(f" {number} {_quoted(text)}" for number, text in texts.items())


def _comments(database: Database) -> Iterator[str]:
    if database.comment:
        yield f"CM_ {_quoted(database.comment)};"
    for node, text in database.node_comments.items():
        yield f"CM_ BU_ {node} {_quoted(text)};"
    for message in database.messages:
        if message.comment:
            yield f"CM_ BO_ {message.number} {_quoted(message.comment)};"
        for signal in message.signals:
            if signal.comment:
                yield f"CM_ SG_ {message.number} {signal.name} {_quoted(signal.comment)};"


def _attributes(database: Database) -> Iterator[str]:
    for rule in database.rules:
        yield f"BA_DEF_ {rule.of + ' ' if rule.of else ''}{_quoted(rule.name)} {rule.type};"
    for rule in database.rules:
        if rule.default:
            yield f"BA_DEF_DEF_ {_quoted(rule.name)} {rule.default};"
    for name, value in database.attributes.items():
        yield f"BA_ {_quoted(name)} {value};"
    for node, values in database.node_attributes.items():
        for name, value in values.items():
            yield f"BA_ {_quoted(name)} BU_ {node} {value};"
    for message in database.messages:
        yield from _of_message(message)


def _of_message(message: DbMessage) -> Iterator[str]:
    for name, value in message.attributes.items():
        yield f"BA_ {_quoted(name)} BO_ {message.number} {value};"
    for signal in message.signals:
        for name, value in signal.attributes.items():
            yield f"BA_ {_quoted(name)} SG_ {message.number} {signal.name} {value};"
