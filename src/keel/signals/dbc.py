"""Reading the industry's common signal-database text form (DBC).

Statements are taken one by one. One that is wrong is passed over and told with line and column; one that is not
known is kept as it is. Bit numbers follow Keel's own convention, which is this form's.
"""

from __future__ import annotations

import gc
import re
from collections.abc import Iterator
from functools import lru_cache

from keel.errors import FieldError
from keel.model.fields import BitField
from keel.signals.database import AttributeRule, Database, DbMessage, DbSignal, Multiplexing, Problem

_NAME = r"[A-Za-z_][\w.]*"
_NUMBER = r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?"
_TEXT = r'"((?:[^"\\]|\\.)*)"'
_SIGNAL = re.compile(
    rf'\s*SG_\s+({_NAME})\s*(?:(M)|m(\d+)(M?))?\s*:\s*(\d+)\s*\|\s*(\d+)\s*@\s*([01])\s*([-+])\s*'
    rf'\(\s*({_NUMBER})\s*,\s*({_NUMBER})\s*\)\s*\[\s*({_NUMBER})\s*\|\s*({_NUMBER})\s*\]\s*{_TEXT}\s*(.*?)\s*$'
)  # fmt: skip
_MESSAGE = re.compile(rf"\s*BO_\s+(\d+)\s+({_NAME})\s*:\s*(\d+)\s+({_NAME})?\s*;?\s*$")
_PAIR = re.compile(rf"({_NUMBER})\s+{_TEXT}", re.S)
_WORD = re.compile(r"\s*([A-Z][A-Z_0-9]*_?)\b")
_RANGE = re.compile(r"(\d+)\s*-\s*(\d+)")


def decode(raw: bytes) -> tuple[str, str]:
    """Text and its encoding: UTF-8 if it is that, Windows-1252 where its extra signs are used, else Latin-1."""
    if raw.startswith(b"\xef\xbb\xbf"):
        return raw.decode("utf-8-sig", "replace"), "utf-8-sig"
    try:
        return raw.decode("utf-8"), "utf-8"
    except UnicodeDecodeError:
        pass
    if re.search(rb"[\x80-\x9f]", raw):
        try:
            return raw.decode("cp1252"), "cp1252"
        except UnicodeDecodeError:
            pass
    return raw.decode("latin-1"), "latin-1"


def parse_dbc(raw: bytes) -> Database:
    """Read the bytes of a file; never raises."""
    text, encoding = decode(raw)
    database = Database(encoding=encoding, newline="\r\n" if "\r\n" in text else "\n")
    reader = _Reader(database)
    # Hundreds of thousands of small objects, none of them garbage: looking for some takes longer than reading.
    collecting = gc.isenabled()
    gc.disable()
    try:
        _read_all(reader, text)
    finally:
        if collecting:
            gc.enable()
    return database


def _read_all(reader: _Reader, text: str) -> None:
    for line, statement in _statements(text.replace("\r\n", "\n").replace("\r", "\n")):
        try:
            reader.take(statement)
        except _Wrong as wrong:
            before = statement[: wrong.at]
            column = wrong.at - (before.rfind("\n") + 1) + 1
            problem = Problem(line + before.count("\n"), column, wrong.what, wrong.expected)
            reader.database.problems.append(problem)


_PLAIN = Multiplexing()


@lru_cache(1 << 14)
def _field(start: int, length: int, order: str, sign: str) -> BitField:
    """Fields lie in the same places over and over."""
    return BitField(start, length, "little" if order == "1" else "big", sign == "-")


class _Wrong(Exception):
    def __init__(self, at: int, what: str, expected: str) -> None:
        self.at, self.what, self.expected = at, what, expected


_LINES = ("BO_", "SG_", "VERSION", "BU_", "BS_")
_QUOTE = re.compile(r'(?<!\\)(?:\\\\)*"')


def _statements(text: str) -> Iterator[tuple[int, str]]:
    """Statements with the number of the line they begin on."""
    lines = text.split("\n")
    number = 0
    while number < len(lines):
        line = lines[number]
        start = number
        number += 1
        if line.startswith(" SG_ ") and line.count('"') == 2:
            yield start + 1, line
            continue
        word = _WORD.match(line)
        if not line.strip():
            continue
        name = word.group(1) if word else ""
        if name == "NS_":
            # A list of words, one a line, each set in.
            while number < len(lines) and lines[number][:1] in ("\t", " ") and not _SIGNAL.match(lines[number]):
                number += 1
            yield start + 1, "\n".join(lines[start:number])
        elif name in _LINES and line.count('"') % 2 == 0:
            yield start + 1, line
        else:
            end = number
            quoted = _ends_open(line, False)
            while (quoted or not lines[end - 1].rstrip().endswith(";")) and end < len(lines):
                following = _WORD.match(lines[end])
                if not quoted and following is not None and following.group(1) in (*_LINES, "CM_", "BA_", "VAL_"):
                    break
                quoted = _ends_open(lines[end], quoted)
                end += 1
            yield start + 1, "\n".join(lines[start:end])
            number = end


def _ends_open(line: str, quoted: bool) -> bool:
    """Whether a text is still open at the end of a line."""
    quotes = line.count('"')
    if "\\" in line:
        # A quote after a backslash ends nothing.
        quotes = len(_QUOTE.findall(line))
    return quoted ^ bool(quotes & 1)


class _Reader:
    def __init__(self, database: Database) -> None:
        self.database = database
        self.by_number: dict[int, DbMessage] = {}
        self.message: DbMessage | None = None
        self.signals: dict[tuple[int, str], DbSignal] = {}

    def take(self, statement: str) -> None:
        if statement.startswith(" SG_ "):
            self._signal(statement)
            return
        word = _WORD.match(statement)
        name = word.group(1) if word else ""
        if name == "SG_":
            self._signal(statement)
            return
        if name == "BO_":
            self._message(statement)
            return
        self.message = None
        known = getattr(self, f"_{name.lower().strip('_')}_statement", None)
        if known is not None:
            known(statement)
        else:
            self.database.others.append(statement)

    def _message(self, statement: str) -> None:
        self.message = None
        found = _MESSAGE.match(statement)
        if found is None:
            raise _Wrong(
                len(statement) - len(statement.lstrip()), "a message that does not read", "BO_ number name: size sender"
            )
        number, name, size, sender = found.groups()
        if int(number) in self.by_number:
            raise _Wrong(found.start(1), f"message {number} is there already", "another number")
        self.message = DbMessage(int(number), name, int(size), sender or "")
        self.by_number[int(number)] = self.message
        self.database.messages.append(self.message)

    def _signal(self, statement: str) -> None:
        if self.message is None:
            raise _Wrong(0, "a signal outside a message", "BO_ before it")
        found = _SIGNAL.match(statement)
        if found is None:
            raise _Wrong(*_where_wrong(statement))
        name, selects, page, both, start, length, order, sign, scale, offset, least, most, unit, receivers = (
            found.groups()
        )
        if (self.message.number, name) in self.signals:
            raise _Wrong(found.start(1), f"signal {name} is there already", "another name")
        try:
            field = _field(int(start), int(length), order, sign)
        except FieldError as error:
            raise _Wrong(found.start(5), str(error), "1 to 64 bits inside the payload") from None
        # Counted from the payload's first bit on the line for big-endian fields, from bit 0 for little-endian ones.
        first = field.start if order == "1" else field.start // 8 * 8 + 7 - field.start % 8
        if first + field.length > 8 * self.message.size:
            raise _Wrong(
                found.start(5),
                f"{field.words()} does not fit in {self.message.size} bytes",
                "a field inside the payload",
            )
        multiplexing = _PLAIN
        if selects or page is not None:
            multiplexing = Multiplexing(bool(selects or both), int(page) if page is not None else None)
        signal = DbSignal(
            name, field, scale, offset, least, most, _plain(unit),
            tuple(receivers.replace(",", " ").split()), multiplexing,
        )  # fmt: skip
        self.message.signals.append(signal)
        self.signals[self.message.number, name] = signal

    def _version_statement(self, statement: str) -> None:
        found = re.search(_TEXT, statement)
        self.database.version = _plain(found.group(1)) if found else ""

    def _ns_statement(self, statement: str) -> None:
        self.database.new_symbols = statement.split()[1:]
        self.database.new_symbols = [w for w in self.database.new_symbols if w != ":"]

    def _bs_statement(self, statement: str) -> None:
        if statement.split(":", 1)[-1].strip():
            self.database.others.append(statement)

    def _bu_statement(self, statement: str) -> None:
        self.database.nodes += statement.split(":", 1)[-1].split()

    def _val_table_statement(self, statement: str) -> None:
        found = re.match(rf"\s*VAL_TABLE_\s+({_NAME})", statement)
        if found is None:
            raise _Wrong(0, "a value table without a name", "VAL_TABLE_ name number text ... ;")
        self.database.tables[found.group(1)] = _pairs(statement, found.end())

    def _val_statement(self, statement: str) -> None:
        found = re.match(rf"\s*VAL_\s+(\d+)\s+({_NAME})\s*", statement)
        if found is None:
            self.database.others.append(statement)
            return
        signal = self._known(int(found.group(1)), found.group(2), found.start(1))
        table = re.match(rf"({_NAME})\s*;", statement[found.end() :])
        if table is not None and table.group(1) in self.database.tables:
            signal.texts = dict(self.database.tables[table.group(1)])
        else:
            signal.texts = _pairs(statement, found.end())

    def _cm_statement(self, statement: str) -> None:
        found = re.match(
            rf"\s*CM_\s*(?:(BU_)\s+({_NAME})|(BO_)\s+(\d+)|(SG_)\s+(\d+)\s+({_NAME}))?\s*{_TEXT}\s*;?\s*$",
            statement,
            re.S,
        )
        if found is None:
            if re.match(r"\s*CM_\s+EV_", statement):
                self.database.others.append(statement)
                return
            raise _Wrong(0, "a comment that does not read", 'CM_ [BU_ name | BO_ number | SG_ number name] "text";')
        text = _plain(found.group(8))
        if found.group(1):
            self.database.node_comments[found.group(2)] = text
        elif found.group(3):
            self._known_message(int(found.group(4)), found.start(4)).comment = text
        elif found.group(5):
            self._known(int(found.group(6)), found.group(7), found.start(6)).comment = text
        else:
            self.database.comment = text

    def _ba_def_statement(self, statement: str) -> None:
        found = re.match(r'\s*BA_DEF_\s+(?:(BU_|BO_|SG_|EV_)\s+)?"([^"]*)"\s+(.*?)\s*;?\s*$', statement, re.S)
        if found is None:
            raise _Wrong(0, "an attribute that does not read", 'BA_DEF_ [BU_|BO_|SG_] "name" type;')
        self.database.rules.append(AttributeRule(found.group(1) or "", found.group(2), found.group(3)))

    def _ba_def_def_statement(self, statement: str) -> None:
        found = re.match(r'\s*BA_DEF_DEF_\s+"([^"]*)"\s+(.*?)\s*;?\s*$', statement, re.S)
        rule = next((r for r in self.database.rules if found and r.name == found.group(1)), None)
        if found is None or rule is None:
            raise _Wrong(0, "a default of an attribute that is not defined", "BA_DEF_ before it")
        rule.default = found.group(2)

    def _ba_statement(self, statement: str) -> None:
        found = re.match(
            rf'\s*BA_\s+"([^"]*)"\s+(?:(BU_)\s+({_NAME})\s+|(BO_)\s+(\d+)\s+|(SG_)\s+(\d+)\s+({_NAME})\s+)?(.*?)\s*;?\s*$',
            statement, re.S,
        )  # fmt: skip
        if found is None or re.match(r"EV_\s", found.group(9)):
            self.database.others.append(statement)
            return
        name, value = found.group(1), found.group(9)
        if found.group(2):
            self.database.node_attributes.setdefault(found.group(3), {})[name] = value
        elif found.group(4):
            self._known_message(int(found.group(5)), found.start(5)).attributes[name] = value
        elif found.group(6):
            self._known(int(found.group(7)), found.group(8), found.start(7)).attributes[name] = value
        else:
            self.database.attributes[name] = value

    def _sig_valtype_statement(self, statement: str) -> None:
        found = re.match(rf"\s*SIG_VALTYPE_\s+(\d+)\s+({_NAME})\s*:?\s*([0-3])\s*;?", statement)
        if found is None:
            raise _Wrong(0, "a number type that does not read", "SIG_VALTYPE_ number name : 1;")
        signal = self._known(int(found.group(1)), found.group(2), found.start(1))
        number = {"1": "float", "2": "double"}.get(found.group(3), "integer")
        if number != "integer" and signal.field.length != (32 if number == "float" else 64):
            raise _Wrong(
                found.start(3), f"a {number} of {signal.field.length} bits", "32 bits for float, 64 for double"
            )
        signal.number = number

    def _sg_mul_val_statement(self, statement: str) -> None:
        found = re.match(rf"\s*SG_MUL_VAL_\s+(\d+)\s+({_NAME})\s+({_NAME})\s+(.*?)\s*;?\s*$", statement, re.S)
        if found is None:
            raise _Wrong(0, "multiplexing that does not read", "SG_MUL_VAL_ number signal selector 0-1, 3-3;")
        signal = self._known(int(found.group(1)), found.group(2), found.start(1))
        ranges = tuple((int(a), int(b)) for a, b in _RANGE.findall(found.group(4)))
        old = signal.multiplexing
        signal.multiplexing = Multiplexing(old.selects, old.page, found.group(3), ranges)

    def _bo_tx_bu_statement(self, statement: str) -> None:
        found = re.match(r"\s*BO_TX_BU_\s+(\d+)\s*:\s*(.*?)\s*;?\s*$", statement, re.S)
        if found is None:
            raise _Wrong(0, "senders that do not read", "BO_TX_BU_ number : name,name;")
        names = tuple(n for n in re.split(r"[\s,]+", found.group(2)) if n)
        self._known_message(int(found.group(1)), found.start(1)).senders = names

    def _known_message(self, number: int, at: int) -> DbMessage:
        found = self.by_number.get(number)
        if found is None:
            raise _Wrong(at, f"message {number} is not defined", "a message of this file")
        return found

    def _known(self, number: int, name: str, at: int) -> DbSignal:
        self._known_message(number, at)
        found = self.signals.get((number, name))
        if found is None:
            raise _Wrong(at, f"message {number} has no signal {name}", "a signal of that message")
        return found


def _plain(text: str) -> str:
    return text.replace('\\"', '"').replace("\\\\", "\\") if "\\" in text else text


def _pairs(statement: str, start: int) -> dict[int, str]:
    found: dict[int, str] = {}
    for number, text in _PAIR.findall(statement, start):
        found[int(float(number))] = _plain(text)
    return found


def _where_wrong(statement: str) -> tuple[int, str, str]:
    """How far a signal reads, and what should follow."""
    steps = (
        (rf"\s*SG_\s+{_NAME}\s*(?:M|m\d+M?)?\s*", ":"),
        (r":\s*\d+\s*\|\s*\d+\s*@\s*[01]\s*[-+]\s*", "start|length@order and sign, as 7|16@0+"),
        (rf"\(\s*{_NUMBER}\s*,\s*{_NUMBER}\s*\)\s*", "(scale,offset)"),
        (rf"\[\s*{_NUMBER}\s*\|\s*{_NUMBER}\s*\]\s*", "[least|most]"),
        (rf"{_TEXT}", "a unit in quotes"),
    )
    at = 0
    expected = "SG_ name"
    for pattern, words in steps:
        found = re.compile(pattern).match(statement, at)
        if found is None:
            return at, "a signal that does not read", words if at else expected
        at = found.end()
    return at, "a signal that does not read", "receivers"
